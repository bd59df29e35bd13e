package book

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// version finds the version of a legend or zone set with this content, or makes the next one.
func (b *Book) version(ctx context.Context, tx *txn, table, name, sum string, fill func(id int64) error) (id int64, err error) {
	err = tx.QueryRowContext(ctx, b.sql("SELECT "+table+"_id FROM "+table+" WHERE name = ? AND sha256 = ?"), name, sum).Scan(&id)
	if !errors.Is(err, sql.ErrNoRows) {
		return id, err
	}
	var number int
	if err := tx.QueryRowContext(ctx, "SELECT COALESCE(MAX("+table+"_id), 0) + 1 FROM "+table).Scan(&id); err != nil {
		return 0, err
	}
	if err := tx.QueryRowContext(ctx, b.sql("SELECT COALESCE(MAX(version), 0) + 1 FROM "+table+" WHERE name = ?"), name).Scan(&number); err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, b.sql("INSERT INTO "+table+" VALUES (?, ?, ?, ?)"), id, name, number, sum); err != nil {
		return 0, err
	}
	return id, fill(id)
}

// versionNotes tells how a zone set and a legend that are about to get a new version differ from the last one.
func (b *Book) versionNotes(ctx context.Context, tx *txn, p *Posting, zones, legend string) (notes []string, err error) {
	for _, of := range []struct{ table, name, sum, what string }{{"zone_set", p.ZoneSet.Name, zones, "zones"}, {"legend", p.Legend.Name, legend, "classes"}} {
		var id int64
		var known int
		if err := tx.QueryRowContext(ctx, b.sql("SELECT COUNT(*) FROM "+of.table+" WHERE name = ? AND sha256 = ?"), of.name, of.sum).Scan(&known); err != nil {
			return nil, err
		}
		err := tx.QueryRowContext(ctx, b.sql("SELECT "+of.table+"_id FROM "+of.table+" WHERE name = ? ORDER BY version DESC LIMIT 1"), of.name).Scan(&id)
		switch {
		case known > 0 || errors.Is(err, sql.ErrNoRows):
			continue
		case err != nil:
			return nil, err
		}
		before, after, version := map[string]any{}, map[string]any{}, 0
		if of.table == "zone_set" {
			old, err := b.zoneSet(ctx, tx, id)
			if err != nil {
				return nil, err
			}
			for _, z := range old.Zones {
				before[z.ID] = z
			}
			for _, z := range p.ZoneSet.Zones {
				after[z.ID] = z
			}
			version = old.Version
		} else {
			old, err := b.legend(ctx, tx, id)
			if err != nil {
				return nil, err
			}
			for _, c := range old.Classes {
				before[c.Code] = c
			}
			for _, c := range p.Legend.Classes {
				after[c.Code] = c
			}
			version = old.Version
		}
		fresh, gone, other := 0, 0, 0
		for k, v := range after {
			if w, ok := before[k]; !ok {
				fresh++
			} else if w != v {
				other++
			}
		}
		for k := range before {
			if _, ok := after[k]; !ok {
				gone++
			}
		}
		text := fmt.Sprintf("the %s %s has version %d now: %d %s new, %d gone, %d with another name or mark", strings.Replace(of.table, "_", " ", 1), of.name, version+1, fresh, of.what, gone, other)
		if fresh+gone+other == 0 {
			text = fmt.Sprintf("the %s %s has version %d now: in another order", strings.Replace(of.table, "_", " ", 1), of.name, version+1)
		}
		notes = append(notes, text)
	}
	return notes, nil
}

// adopt gives a posting that was made of bare tables the zone set and legend of its account, where they say the same.
func (b *Book) adopt(ctx context.Context, tx *txn, p *Posting) error {
	if p.ZoneSet.Name != "" && p.Legend.Name != "" {
		return nil
	}
	var zones, legend int64
	err := tx.QueryRowContext(ctx, b.sql("SELECT zone_set_id, legend_id FROM posting WHERE account = ? ORDER BY posting_id DESC LIMIT 1"), p.Account).Scan(&zones, &legend)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if err == nil && p.ZoneSet.Name == "" {
		old, err := b.zoneSet(ctx, tx, zones)
		if err != nil {
			return err
		}
		if slices.EqualFunc(old.Zones, p.ZoneSet.Zones, func(a, c Zone) bool { return a.ID == c.ID && a.Name == c.Name }) {
			p.ZoneSet = old
		}
	}
	if err == nil && p.Legend.Name == "" {
		old, err := b.legend(ctx, tx, legend)
		if err != nil {
			return err
		}
		known := map[string]string{}
		for _, c := range old.Classes {
			known[c.Code] = c.Name
		}
		if !slices.ContainsFunc(p.Legend.Classes, func(c Class) bool { name, ok := known[c.Code]; return !ok || name != c.Name }) {
			p.Legend = old
		}
	}
	if p.ZoneSet.Name == "" {
		p.ZoneSet.Name = "zones"
	}
	if p.Legend.Name == "" {
		p.Legend.Name = "classes of " + p.Account
	}
	return nil
}

// zonesInto and classesInto fill a version that is new.
func (b *Book) zonesInto(ctx context.Context, tx *txn, zones []Zone) func(id int64) error {
	return func(id int64) error {
		return b.putMany(ctx, tx, "zone", []string{"zone_set_id", "zone_no", "zone_id", "zone_name", "within_id", "within_name"}, len(zones), func(i int) []any {
			z := zones[i]
			return []any{id, i, z.ID, z.Name, z.WithinID, z.WithinName}
		})
	}
}

func (b *Book) classesInto(ctx context.Context, tx *txn, classes []Class) func(id int64) error {
	return func(id int64) error {
		return b.putMany(ctx, tx, "class", []string{"legend_id", "class_no", "class_code", "class_name", "color", "class_group"}, len(classes), func(i int) []any {
			c := classes[i]
			return []any{id, i, c.Code, c.Name, c.Color, c.Group}
		})
	}
}
