package store

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(dir)
	require.NoError(t, err)
	return s
}

func TestWhatIsKeptIsThereAgain(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new", "folder")
	s := open(t, dir)
	_, err := s.LastRevision(t.Context())
	require.ErrorIs(t, err, ErrNotFound)
	r := Revision{At: time.Now(), Message: "m", Name: "n", Text: "t"}
	require.NoError(t, s.AddRevision(t.Context(), &r, map[string]string{"a.yaml": "x"}, nil))
	w := Sweep{RevisionID: r.ID, Target: "t", State: Running, StartedAt: time.Now()}
	require.NoError(t, s.AddSweep(t.Context(), &w))
	require.NoError(t, s.Intend(t.Context(),
		Probe{SweepID: w.ID, ProbeID: "p", Route: "GET /a", Identity: "ann", Unsafe: true,
			Sent: time.Now()}))
	require.NoError(t, s.Close())

	s = open(t, dir)
	defer func() { assert.NoError(t, s.Close()) }()
	got, files, err := s.RevisionByID(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, "t", got.Text)
	assert.Equal(t, map[string]string{"a.yaml": "x"}, files)
	require.NoError(t, s.InterruptRunning(t.Context()))
	again, err := s.SweepByID(t.Context(), w.ID)
	require.NoError(t, err)
	assert.Equal(t, Interrupted, again.State)
	list := probesOf(t, s, w.ID)
	require.Len(t, list, 1)
	assert.True(t, list[0].Unsafe)
	assert.False(t, list[0].Answered, "sent, and never answered")
}

// probesOf are the rows of a sweep, in whatever batches they come.
func probesOf(t *testing.T, s *Store, sweep uint) (out []Probe) {
	t.Helper()
	require.NoError(t, s.EachProbe(t.Context(), []uint{sweep}, 7, func(list []Probe) error {
		assert.LessOrEqual(t, len(list), 7)
		out = append(out, list...)
		return nil
	}))
	return out
}

func TestJournal(t *testing.T) {
	s := open(t, "")
	defer func() { assert.NoError(t, s.Close()) }()
	r := Revision{At: time.Now()}
	require.NoError(t, s.AddRevision(t.Context(), &r, nil, nil))
	var ids []uint
	for range 3 {
		w := Sweep{RevisionID: r.ID, Target: "t", State: Done, StartedAt: time.Now()}
		require.NoError(t, s.AddSweep(t.Context(), &w))
		ids = append(ids, w.ID)
		for range 2 { // an intent that is written again replaces the first
			require.NoError(t, s.Intend(t.Context(),
				Probe{SweepID: w.ID, ProbeID: "p", Route: "GET /a", Identity: "ann",
					Sent: time.Now()}))
		}
		more := make([]Probe, 2*batchRows)
		for i := range more {
			more[i] = Probe{SweepID: w.ID, ProbeID: fmt.Sprint("q", i), Sent: time.Now(), Answered: true}
		}
		require.NoError(t, s.Record(t.Context(),
			append(more, Probe{SweepID: w.ID, ProbeID: "p", Route: "GET /a", Identity: "ann",
				Sent: time.Now(), Answered: true, Kind: "crossing", Status: 403, Fact: []byte("fact")})))
		list := probesOf(t, s, w.ID)
		assert.Len(t, list, len(more)+1, "what came replaces the intent")
	}
	require.Error(t, s.Record(t.Context(), []Probe{{SweepID: ids[0], ProbeID: "new"}, {SweepID: 99, ProbeID: "p"}}),
		"there is no such sweep")
	list := probesOf(t, s, ids[0])
	assert.Len(t, list, 2*batchRows+1, "all or none")
	past, err := s.Past(t.Context(), "t", "GET /a", "ann", 2)
	require.NoError(t, err)
	require.Len(t, past, 2)
	assert.Equal(t, ids[2], past[0].SweepID, "the newest first")
	assert.Nil(t, past[0].Fact, "lists have none")
	assert.Equal(t, []any{"crossing", 403}, []any{past[0].Kind, past[0].Status})
	of, err := s.PastOf(t.Context(), "t", "p", 2)
	require.NoError(t, err)
	require.Len(t, of, 2)
	assert.Equal(t, "fact", string(of[0].Fact))
	assert.Equal(t, ids[2], of[0].SweepID)
	none, err := s.Past(t.Context(), "other", "GET /a", "ann", 2)
	require.NoError(t, err)
	assert.Empty(t, none)

	m := Made{SweepID: ids[0], Record: "r", State: "making"}
	require.NoError(t, s.AddMade(t.Context(), &m))
	require.NoError(t, s.NameMade(t.Context(), m.ID, "r-1"))
	require.NoError(t, s.SetMade(t.Context(), m.ID, "removed", ""))
	made, err := s.MadeOf(t.Context(), ids[0])
	require.NoError(t, err)
	assert.Equal(t, "r-1", made[0].RID)
	assert.Equal(t, "removed", made[0].State)
	assert.Error(t, s.Intend(t.Context(), Probe{SweepID: 99, ProbeID: "p", Sent: time.Now()}), "foreign keys are on")
}

func TestSecretsAreSealed(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	defer func() { assert.NoError(t, s.Close()) }()
	_, err := s.Unseal(t.Context(), "a")
	require.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, s.Seal(t.Context(), "a", "first"))
	require.NoError(t, s.Seal(t.Context(), "a", "second"))
	got, err := s.Unseal(t.Context(), "a")
	require.NoError(t, err)
	assert.Equal(t, "second", got)
	info, err := os.Stat(filepath.Join(dir, "secrets.key"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	// A sealed value is bound to its name, and to the key.
	require.NoError(t, s.db.Exec("INSERT INTO secrets SELECT 'b', sealed FROM secrets WHERE name = 'a'").Error)
	_, err = s.Unseal(t.Context(), "b")
	assert.ErrorContains(t, err, "cannot be opened")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secrets.key"), make([]byte, 32), 0o600))
	_, err = s.Unseal(t.Context(), "a")
	assert.ErrorContains(t, err, "cannot be opened")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secrets.key"), []byte("short"), 0o600))
	assert.ErrorContains(t, s.Seal(t.Context(), "c", "x"), "cannot be used", "a damaged key is not replaced in silence")
	assert.Error(t, open(t, "").Seal(t.Context(), "a", "x"), "a memory database has no key")
}

func TestAFolderThatCannotBe(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := Open(file)
	assert.ErrorContains(t, err, "cannot be made")
}

// A disk that may not be written, or has no room, can be looked at.
func TestAReadOnlyDiskCanBeLookedAt(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=4m"); err != nil {
		t.Skip("this user cannot mount a file system: ", err)
	}
	defer func() { assert.NoError(t, syscall.Unmount(dir, syscall.MNT_DETACH)) }()
	s := open(t, dir)
	w := Sweep{RevisionID: 1, Target: "t", State: Done}
	require.NoError(t, s.AddRevision(t.Context(), &Revision{Text: "x"}, nil, nil))
	require.NoError(t, s.AddSweep(t.Context(), &w))
	require.NoError(t, s.Close())
	require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	s = open(t, dir)
	assert.NotEmpty(t, s.ReadOnly())
	got, err := s.SweepByID(t.Context(), w.ID)
	require.NoError(t, err)
	assert.Equal(t, "t", got.Target)
	assert.True(t, Unwritable(s.AddSweep(t.Context(), &Sweep{RevisionID: 1})))
	require.NoError(t, s.Close())
	unlock, err := Lock(dir, "a test")
	require.NoError(t, err)
	require.NoError(t, unlock())

	require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", syscall.MS_REMOUNT, ""))
	fill(t, filepath.Join(dir, "full"))
	s = open(t, dir)
	defer func() { assert.NoError(t, s.Close()) }()
	_, err = s.SweepByID(t.Context(), w.ID)
	assert.NoError(t, err)
	unlock, err = Lock(dir, "a test")
	require.NoError(t, err)
	require.NoError(t, unlock())
}

// fill writes a file until the disk is full.
func fill(t *testing.T, path string) {
	f, err := os.Create(path)
	require.NoError(t, err)
	for err == nil {
		_, err = f.Write(make([]byte, 4096))
	}
	require.ErrorIs(t, err, syscall.ENOSPC)
	require.NoError(t, f.Close())
}

func TestOneProcessForADirectory(t *testing.T) {
	dir := t.TempDir()
	unlock, err := Lock(dir, "millgate serve")
	require.NoError(t, err)
	_, err = Lock(dir, "millgate sweep")
	require.ErrorIs(t, err, ErrInUse)
	assert.ErrorContains(t, err, "millgate serve (process ")
	require.NoError(t, unlock())
	unlock, err = Lock(dir, "millgate sweep")
	require.NoError(t, err)
	require.NoError(t, unlock())
}

// The database and its journal are their owner's alone, also where an earlier version or a wide
// mask made them otherwise.
func TestFilesAreTheirOwnersAlone(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	s, err := Open(dir)
	require.NoError(t, err)
	require.NoError(t, s.Seal(t.Context(), "x", "y"))
	modes := func() (out []string) {
		list, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, e := range list {
			i, err := e.Info()
			require.NoError(t, err)
			out = append(out, i.Mode().String())
			assert.Zero(t, i.Mode().Perm()&0o077, e.Name())
		}
		return out
	}
	require.GreaterOrEqual(t, len(modes()), 3, "with its journal")
	require.NoError(t, s.Close())
	require.NoError(t, os.Chmod(filepath.Join(dir, "millgate.db"), 0o644))
	s, err = Open(dir)
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Close()) }()
	require.NoError(t, s.Seal(t.Context(), "x", "z"))
	modes()
	i, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Equal(t, "drwx------", i.Mode().String())
}
