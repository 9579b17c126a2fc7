package store

// Rule: An exchange goes only when a rule that was given says so.

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Retention says which exchanges stay. The zero one keeps all.
type Retention struct {
	Sweeps int           // of each target the newest so many sweeps; 0 is all
	For    time.Duration // of sweeps that began so long ago at most; 0 is all
}

// Pruned is what a prune took away.
type Pruned struct {
	Sweeps    int   // whose exchanges went
	Exchanges int64 // probes with what was answered
}

// Standing are the sweeps that what is known of a target rests on, without their results,
// the oldest first: the newest whole one that was not failed, and all after it; all of
// them where there is none.
func (s *Store) Standing(ctx context.Context, target string) (out []Sweep, err error) {
	var whole []uint
	q := s.at(ctx).Model(&Sweep{}).Where("target = ? AND NOT partial AND state <> ?", target, Failed)
	if err := q.Order("id desc").Limit(1).Pluck("id", &whole).Error; err != nil {
		return nil, err
	}
	from := uint(0)
	if len(whole) > 0 {
		from = whole[0]
	}
	return out, s.at(ctx).Omit("result").Where("target = ? AND id >= ?", target, from).Order("id").Find(&out).Error
}

// Prune takes away the exchanges of sweeps that a retention does not keep. What is known
// of a target goes on standing: the exchanges of its Standing sweeps stay, whatever their
// age. Findings, notes and what was left behind stay of every sweep, which is marked, as
// it can no longer go on: what it sent is not known any more.
func (s *Store) Prune(ctx context.Context, keep Retention, now time.Time) (out Pruned, err error) {
	if keep == (Retention{}) {
		return out, nil
	}
	var targets []string
	if err := s.at(ctx).Model(&Sweep{}).Distinct("target").Order("target").Pluck("target", &targets).Error; err != nil {
		return out, err
	}
	for _, t := range targets {
		standing, err := s.Standing(ctx, t)
		if err != nil {
			return out, err
		}
		var old []Sweep // before those, the newest first
		q := s.at(ctx).Omit("result").Where("target = ? AND state <> ?", t, Running)
		if len(standing) > 0 {
			q = q.Where("id < ?", standing[0].ID)
		}
		// One that was stopped early stands, and does not take the last that was done away.
		var done []uint
		if err := s.at(ctx).Model(&Sweep{}).Where("target = ? AND NOT partial AND state = ?", t,
			Done).Order("id desc").Limit(1).Pluck("id", &done).Error; err != nil {
			return out, err
		}
		if len(done) > 0 {
			q = q.Where("id <> ?", done[0])
		}
		if err := q.Order("id desc").Find(&old).Error; err != nil {
			return out, err
		}
		for i, w := range old {
			tooMany := keep.Sweeps > 0 && len(standing)+i >= keep.Sweeps
			tooOld := keep.For > 0 && w.StartedAt.Before(now.Add(-keep.For))
			if w.Pruned || !tooMany && !tooOld {
				continue
			}
			n, err := s.pruneSweep(ctx, w.ID)
			if err != nil {
				return out, err
			}
			out.Sweeps++
			out.Exchanges += n
		}
	}
	return out, nil
}

func (s *Store) pruneSweep(ctx context.Context, id uint) (n int64, err error) {
	return n, s.at(ctx).Transaction(func(tx *gorm.DB) error {
		r := tx.Where("sweep_id = ?", id).Delete(&Probe{})
		n = r.RowsAffected
		if r.Error != nil {
			return r.Error
		}
		return tx.Model(&Sweep{}).Where("id = ?", id).Update("pruned", true).Error
	})
}

// Shrink gives what was pruned back to the disk. It needs as much room as the database
// has, for a moment.
func (s *Store) Shrink(ctx context.Context) error { return s.at(ctx).Exec("VACUUM").Error }
