// Package store keeps revisions, sweeps and their probes in SQLite.
//
// The journal of a sweep is written ahead: a probe's intent before it is sent,
// its answer when it came. A sweep that was interrupted can so be gone on with,
// and an unsafe request is never sent twice. Nothing secret is given to this
// package but through Seal.
package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"github.com/gofrs/flock"
	"github.com/mattn/go-sqlite3"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"
)

// ErrNotFound is returned where nothing has the id.
var ErrNotFound = errors.New("not found")

// Revision is a kept text of the declaration.
type Revision struct {
	ID      uint `gorm:"primaryKey"`
	At      time.Time
	Message string
	Name    string
	Text    string
}

// File is another file that belongs to a revision, as it was then.
type File struct {
	RevisionID uint   `gorm:"primaryKey;autoIncrement:false"`
	Name       string `gorm:"primaryKey"`
	Text       string
}

// States of a sweep.
const (
	Running     = "running"
	Done        = "done"
	Stopped     = "stopped"
	Interrupted = "interrupted" // the process ended while it ran
	Failed      = "failed"      // the target could not be checked
)

// Sweep is one run of planned probes against one target.
type Sweep struct {
	ID         uint `gorm:"primaryKey"`
	RevisionID uint `gorm:"index"`
	Target     string
	Base       string // in place of the target's base
	State      string
	Partial    bool   // only some probes, sent again
	Shard      string // "2/5": those of one of several runners; "" otherwise
	Planned    int
	StartedAt  time.Time
	EndedAt    *time.Time
	Note       string
	Result     []byte // JSON: findings, counts, what was left out; only SweepByID reads it
	Counts     []byte // JSON: the counts of the result
	Pruned     bool   // its exchanges were taken away
}

// Again says whether some probes were sent beside what is known of the rest; a shard knows nothing but its own.
func (w Sweep) Again() bool { return w.Partial && w.Shard == "" }

// Probe is one planned request of a sweep.
type Probe struct {
	SweepID  uint   `gorm:"primaryKey;autoIncrement:false"`
	ProbeID  string `gorm:"primaryKey"`
	Route    string `gorm:"index:crossing"`
	Identity string `gorm:"index:crossing"`
	Unsafe   bool
	Sent     time.Time
	Answered bool
	Kind     string // of check
	Status   int    // of its first answer; 0 without
	Record   string // id of the record it was sent on
	Fact     []byte // JSON of the masked exchange and what was seen beside it
}

// Made is a throwaway record, or something an admitted request left behind.
type Made struct {
	ID      uint `gorm:"primaryKey"`
	SweepID uint `gorm:"index"`
	Record  string
	Owner   string
	RID     string `gorm:"column:rid"`
	Route   string
	State   string // made, removed, left
	Why     string
}

// TableName of what sweeps made.
func (Made) TableName() string { return "mades" }

// observed is what a target was last seen to let happen, as JSON.
type observed struct {
	Target string `gorm:"primaryKey"`
	Text   []byte
}

// TableName of what was observed.
func (observed) TableName() string { return "observed" }

// KeepObserved keeps what a target was seen to let happen, in place of what was kept before.
func (s *Store) KeepObserved(ctx context.Context, target string, text []byte) error {
	return s.at(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&observed{target, text}).Error
}

// Observed is what was kept of a target; ErrNotFound where nothing is.
func (s *Store) Observed(ctx context.Context, target string) ([]byte, error) {
	var o observed
	err := s.at(ctx).Where("target = ?", target).Take(&o).Error
	return o.Text, found(err)
}

// Store is the database.
type Store struct {
	db       *gorm.DB
	dir      string
	readOnly string // why nothing can be written; "" when it can
}

// Open opens or creates the database in dir. An empty dir is a database in
// memory. Where the disk is full or may not be written, what is there can be looked
// at all the same, and ReadOnly says why.
func Open(dir string) (*Store, error) {
	s := &Store{dir: dir}
	if dir == "" {
		return s, s.open("file::memory:?_foreign_keys=on", true)
	}
	file := filepath.Join(dir, "millgate.db")
	err := os.MkdirAll(dir, 0o700)
	if err != nil {
		err = fmt.Errorf("the data directory %s cannot be made: %w", dir, err)
	} else if err = private(file); err == nil || Unwritable(err) {
		err = s.open("file:"+file+"?_journal_mode=WAL&_foreign_keys=on&_busy_timeout=5000"+
			"&_synchronous=NORMAL&_txlock=immediate", true)
	}
	if err == nil || !Unwritable(err) {
		return s, err
	}
	s.readOnly = err.Error()
	if _, serr := os.Stat(file); serr != nil { // there is nothing to look at
		return s, s.open("file::memory:?_foreign_keys=on", true)
	}
	if rerr := s.open("file:"+file+"?mode=ro&immutable=1&_foreign_keys=on", false); rerr != nil {
		return nil, errors.Join(err, rerr)
	}
	return s, nil
}

// private makes the database and its journal their owner's alone: SQLite makes a journal with the
// mode of its database.
func private(file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("the database %s cannot be opened: %w", file, err)
	}
	if err := f.Close(); err != nil {
		return err
	}
	for _, end := range []string{"", "-wal", "-shm"} {
		if err := os.Chmod(file+end, 0o600); err != nil && !errors.Is(err, os.ErrNotExist) && !Unwritable(err) {
			return fmt.Errorf("the mode of %s cannot be set: %w", file+end, err)
		}
	}
	return nil
}

func (s *Store) open(dsn string, migrate bool) error {
	// Not PrepareStmt: its cache keeps a goroutine for good.
	db, err := gorm.Open(sqlite.Open(dsn), &gorm.Config{Logger: logger.Discard, SkipDefaultTransaction: true})
	if err != nil {
		return fmt.Errorf("the database in %s cannot be opened: %w", s.dir, err)
	}
	pool, err := db.DB()
	if err != nil {
		return fmt.Errorf("the database in %s cannot be opened: %w", s.dir, err)
	}
	// One writer: SQLite has no more, and a memory database is its connection.
	pool.SetMaxOpenConns(1)
	s.db = db
	if migrate {
		if err := s.migrate(); err != nil {
			return errors.Join(fmt.Errorf("the database in %s cannot be brought up to date: %w", s.dir, err),
				pool.Close())
		}
	}
	return nil
}

// ReadOnly says why nothing can be written, "" when it can.
func (s *Store) ReadOnly() string { return s.readOnly }

// SetReadOnly remembers that a write failed since the disk takes none.
func (s *Store) SetReadOnly(err error) { s.readOnly = err.Error() }

// Unwritable says whether an error is that of a disk that is full or may not be
// written.
func Unwritable(err error) bool {
	var e sqlite3.Error
	if errors.As(err, &e) {
		switch e.Code {
		case sqlite3.ErrFull, sqlite3.ErrReadonly, sqlite3.ErrIoErr, sqlite3.ErrCantOpen:
			return true
		}
	}
	for _, is := range []error{syscall.ENOSPC, syscall.EROFS, syscall.EACCES, syscall.EPERM, syscall.EDQUOT} {
		if errors.Is(err, is) {
			return true
		}
	}
	return false
}

// LimitPages keeps the database from growing beyond so many pages, as a full disk
// would.
func (s *Store) LimitPages(ctx context.Context, n int) error {
	return s.at(ctx).Exec(fmt.Sprintf("PRAGMA max_page_count = %d", n)).Error
}

// ErrInUse says that another process works with a data directory.
var ErrInUse = errors.New("the data directory is in use")

// Lock takes a data directory for this process until unlock is called. who says
// what the process is, for another one that asks. A directory that cannot be written
// needs no lock.
func Lock(dir, who string) (unlock func() error, err error) {
	if dir == "" {
		return func() error { return nil }, nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		if Unwritable(err) {
			return func() error { return nil }, nil
		}
		return nil, fmt.Errorf("the data directory %s cannot be made: %w", dir, err)
	}
	path := filepath.Join(dir, "millgate.lock")
	l := flock.New(path)
	got, err := l.TryLock()
	switch {
	case err != nil && Unwritable(err):
		return func() error { return nil }, nil
	case err != nil:
		return nil, fmt.Errorf("the data directory %s cannot be locked: %w", dir, err)
	case !got:
		other, rerr := os.ReadFile(path)
		if rerr != nil || len(other) == 0 {
			other = []byte("another process")
		}
		return nil, fmt.Errorf("%w: %s by %s; stop it first, or choose another directory with --data", ErrInUse, dir,
			other)
	}
	// Another one that asks is told less where this fails.
	_ = os.WriteFile(path, fmt.Appendf(nil, "%s (process %d, since %s)", who, os.Getpid(),
		time.Now().Format(time.DateTime)), 0o600)
	return func() error { return l.Unlock() }, nil
}

func (s *Store) migrate() error {
	return gormigrate.New(s.db, &gormigrate.Options{TableName: "migrations", IDColumnName: "id", IDColumnSize: 64,
		UseTransaction: true, ValidateUnknownMigrations: true}, []*gormigrate.Migration{
		{ID: "0001-sweeps", Migrate: func(tx *gorm.DB) error {
			return exec(tx,
				`CREATE TABLE revisions (id integer PRIMARY KEY AUTOINCREMENT, at datetime NOT NULL, message text NOT NULL, name text NOT NULL, text text NOT NULL)`,
				`CREATE TABLE files (revision_id integer NOT NULL REFERENCES revisions(id) ON DELETE CASCADE, name text NOT NULL, text text NOT NULL, PRIMARY KEY (revision_id, name))`,
				`CREATE TABLE sweeps (id integer PRIMARY KEY AUTOINCREMENT, revision_id integer NOT NULL REFERENCES revisions(id), target text NOT NULL, base text NOT NULL, state text NOT NULL, partial numeric NOT NULL, planned integer NOT NULL, started_at datetime NOT NULL, ended_at datetime, note text NOT NULL, result blob)`,
				`CREATE TABLE probes (sweep_id integer NOT NULL REFERENCES sweeps(id) ON DELETE CASCADE, probe_id text NOT NULL, route text NOT NULL, identity text NOT NULL, unsafe numeric NOT NULL, sent datetime NOT NULL, answered numeric NOT NULL, record text NOT NULL, fact blob, PRIMARY KEY (sweep_id, probe_id)) WITHOUT ROWID`,
				`CREATE INDEX probes_crossing ON probes (route, identity)`,
				`CREATE TABLE mades (id integer PRIMARY KEY AUTOINCREMENT, sweep_id integer NOT NULL REFERENCES sweeps(id) ON DELETE CASCADE, record text NOT NULL, owner text NOT NULL, rid text NOT NULL, route text NOT NULL, state text NOT NULL, why text NOT NULL)`,
				`CREATE INDEX mades_sweep ON mades (sweep_id)`,
			)
		}, Rollback: func(tx *gorm.DB) error {
			return exec(tx, "DROP TABLE mades", "DROP TABLE probes", "DROP TABLE sweeps", "DROP TABLE files",
				"DROP TABLE revisions")
		}},
		{ID: "0002-secrets", Migrate: func(tx *gorm.DB) error {
			return exec(tx, `CREATE TABLE secrets (name text PRIMARY KEY, sealed blob NOT NULL) WITHOUT ROWID`)
		}, Rollback: func(tx *gorm.DB) error { return exec(tx, "DROP TABLE secrets") }},
		{ID: "0003-pruned", Migrate: func(tx *gorm.DB) error {
			return exec(tx, `ALTER TABLE sweeps ADD COLUMN pruned numeric NOT NULL DEFAULT 0`,
				`CREATE INDEX sweeps_target ON sweeps (target, id)`)
		}, Rollback: func(tx *gorm.DB) error {
			return exec(tx, "DROP INDEX sweeps_target", "ALTER TABLE sweeps DROP COLUMN pruned")
		}},
		// Lists are read without what only one of them is looked at for.
		{ID: "0004-lists", Migrate: func(tx *gorm.DB) error {
			return exec(tx, `ALTER TABLE probes ADD COLUMN kind text NOT NULL DEFAULT ''`,
				`ALTER TABLE probes ADD COLUMN status integer NOT NULL DEFAULT 0`,
				`ALTER TABLE sweeps ADD COLUMN counts blob`,
				`UPDATE probes SET kind = substr(probe_id, 1, instr(probe_id, '|') - 1) WHERE instr(probe_id, '|') > 0`,
				`UPDATE probes SET status = coalesce(json_extract(CAST(fact AS text), '$.exchange.status'), 0)
					WHERE fact IS NOT NULL AND json_valid(CAST(fact AS text))`,
				`UPDATE sweeps SET counts = json_extract(CAST(result AS text), '$.counts')
					WHERE result IS NOT NULL AND json_valid(CAST(result AS text))`)
		}, Rollback: func(tx *gorm.DB) error {
			return exec(tx, "ALTER TABLE sweeps DROP COLUMN counts", "ALTER TABLE probes DROP COLUMN status",
				"ALTER TABLE probes DROP COLUMN kind")
		}},
		{ID: "0005-shards", Migrate: func(tx *gorm.DB) error {
			return exec(tx, `ALTER TABLE sweeps ADD COLUMN shard text NOT NULL DEFAULT ''`)
		}, Rollback: func(tx *gorm.DB) error { return exec(tx, "ALTER TABLE sweeps DROP COLUMN shard") }},
		{ID: "0006-observed", Migrate: func(tx *gorm.DB) error {
			return exec(tx, `CREATE TABLE observed (target text PRIMARY KEY, text blob NOT NULL)`)
		}, Rollback: func(tx *gorm.DB) error { return exec(tx, "DROP TABLE observed") }},
	}).Migrate()
}

func exec(tx *gorm.DB, statements ...string) error {
	for _, q := range statements {
		if err := tx.Exec(q).Error; err != nil {
			return err
		}
	}
	return nil
}

// Close closes the database.
func (s *Store) Close() error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

func found(err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return ErrNotFound
	}
	return err
}

// at is the database for as long as somebody waits for it.
func (s *Store) at(ctx context.Context) *gorm.DB { return s.db.WithContext(ctx) }

// AddRevision keeps a text with the files that belong to it. Last, where it is not nil, is
// done before it is final: an error of it leaves no revision.
func (s *Store) AddRevision(ctx context.Context, r *Revision, files map[string]string, last func() error) error {
	return s.at(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(r).Error; err != nil {
			return err
		}
		rows := make([]File, 0, len(files))
		for n, t := range files {
			rows = append(rows, File{RevisionID: r.ID, Name: n, Text: t})
		}
		if len(rows) > 0 {
			if err := tx.CreateInBatches(rows, batchRows).Error; err != nil {
				return err
			}
		}
		if last == nil {
			return nil
		}
		return last()
	})
}

// LastRevision returns the newest revision, ErrNotFound when there is none.
func (s *Store) LastRevision(ctx context.Context) (r Revision, err error) {
	return r, found(s.at(ctx).Order("id desc").Take(&r).Error)
}

// RevisionByID returns one revision with its files.
func (s *Store) RevisionByID(ctx context.Context, id uint) (r Revision, files map[string]string, err error) {
	if err = s.at(ctx).Take(&r, id).Error; err != nil {
		return r, nil, found(err)
	}
	var list []File
	if err = s.at(ctx).Where("revision_id = ?", id).Find(&list).Error; err != nil {
		return r, nil, err
	}
	files = map[string]string{}
	for _, f := range list {
		files[f.Name] = f.Text
	}
	return r, files, nil
}

// Revisions lists the newest revisions without their text, those before one when that is not 0.
func (s *Store) Revisions(ctx context.Context, before uint, limit int) (out []Revision, err error) {
	q := s.at(ctx).Select("id", "at", "message", "name").Order("id desc").Limit(limit)
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	return out, q.Find(&out).Error
}

// AddSweep begins a sweep.
func (s *Store) AddSweep(ctx context.Context, w *Sweep) error {
	return s.at(ctx).Create(w).Error
}

// SaveSweep writes all fields of a sweep.
func (s *Store) SaveSweep(ctx context.Context, w *Sweep) error {
	return s.at(ctx).Save(w).Error
}

// SweepByID returns one sweep.
func (s *Store) SweepByID(ctx context.Context, id uint) (w Sweep, err error) {
	return w, found(s.at(ctx).Take(&w, id).Error)
}

// Sweeps lists the newest sweeps without their results, of one target when it is not empty, and
// those before one when that is not 0.
func (s *Store) Sweeps(ctx context.Context, target string, before uint, limit int) (out []Sweep, err error) {
	q := s.at(ctx).Omit("result").Order("id desc").Limit(limit)
	if target != "" {
		q = q.Where("target = ?", target)
	}
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	return out, q.Find(&out).Error
}

// InterruptRunning marks sweeps that a dead process left running.
func (s *Store) InterruptRunning(ctx context.Context) error {
	return s.at(ctx).Model(&Sweep{}).Where("state = ?", Running).Update("state", Interrupted).Error
}

// Intend records that a probe is about to be sent.
func (s *Store) Intend(ctx context.Context, p Probe) error {
	return s.at(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&p).Error
}

// Withdraw takes an intent back: the probe was turned away for coming too early, and
// is sent another time.
func (s *Store) Withdraw(ctx context.Context, sweep uint, probe string) error {
	return s.at(ctx).Where("sweep_id = ? AND probe_id = ? AND NOT answered", sweep, probe).Delete(&Probe{}).Error
}

// batchRows is how many rows go into one statement.
const batchRows = 200

// Record writes probes with what came of them, all or none. What stood of them before is
// replaced.
func (s *Store) Record(ctx context.Context, list []Probe) error {
	return s.at(ctx).Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, batchRows).Error
}

// EachProbe gives the probes of sweeps that were sent in batches, sweep by sweep, without their time
// and their places. It stops at an error, which it returns.
func (s *Store) EachProbe(ctx context.Context, sweeps []uint, batch int, take func([]Probe) error) error {
	rows, err := s.at(ctx).Model(&Probe{}).Select("sweep_id", "probe_id", "identity", "unsafe", "answered", "fact").
		Where("sweep_id IN ?", sweeps).Order("sweep_id, probe_id").Rows()
	if err != nil {
		return err
	}
	defer rows.Close() //nolint:errcheck // it was only read
	list := make([]Probe, 0, batch)
	for rows.Next() {
		var p Probe
		if err := rows.Scan(&p.SweepID, &p.ProbeID, &p.Identity, &p.Unsafe, &p.Answered, &p.Fact); err != nil {
			return err
		}
		if list = append(list, p); len(list) == batch {
			if err := take(list); err != nil {
				return err
			}
			list = make([]Probe, 0, batch)
		}
	}
	if err := rows.Err(); err != nil || len(list) == 0 {
		return err
	}
	return take(list)
}

// Past lists answered probes of one crossing over all sweeps of a target, the newest
// first, without their facts.
func (s *Store) Past(ctx context.Context, target, route, identity string, limit int) (out []Probe, err error) {
	return out, s.past(ctx, target).Select("sweep_id", "probe_id", "kind", "status", "sent").
		Where("route = ? AND identity = ?", route, identity).Limit(limit).Find(&out).Error
}

// PastOf lists a probe over all sweeps of a target in which it was answered, the newest
// first, with its facts.
func (s *Store) PastOf(ctx context.Context, target, probe string, limit int) (out []Probe, err error) {
	return out, s.past(ctx, target).Select("probes.*").Where("probe_id = ?", probe).Limit(limit).Find(&out).Error
}

func (s *Store) past(ctx context.Context, target string) *gorm.DB {
	return s.at(ctx).Joins("JOIN sweeps ON sweeps.id = probes.sweep_id").
		Where("sweeps.target = ? AND answered", target).
		Order("sweep_id desc")
}

// AddMade records a throwaway record.
func (s *Store) AddMade(ctx context.Context, m *Made) error {
	return s.at(ctx).Create(m).Error
}

// SetMade says what became of it.
func (s *Store) SetMade(ctx context.Context, id uint, state, why string) error {
	return s.at(ctx).Model(&Made{}).Where("id = ?", id).Updates(map[string]any{"state": state, "why": why}).Error
}

// MadeOf lists what a sweep made.
func (s *Store) MadeOf(ctx context.Context, sweep uint) (out []Made, err error) {
	return out, s.at(ctx).Where("sweep_id = ?", sweep).Order("id").Find(&out).Error
}

// NameMade records the id of a throwaway record that was made.
func (s *Store) NameMade(ctx context.Context, id uint, rid string) error {
	return s.at(ctx).Model(&Made{}).Where("id = ?", id).Updates(map[string]any{"state": "made", "rid": rid}).Error
}
