package book

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
)

// versions finds the versions of the zone set and the legend of a posting, or makes them. Notes say how new ones differ from the ones before.
func (b *Book) versions(ctx context.Context, tx *txn, p *Posting) (notes []string, err error) {
	var before int64
	p.ZoneSet.ID, before, err = b.version(ctx, tx, "zone_set", p.ZoneSet.Name, p.ZoneSet.digest(), func(id int64) error {
		return b.putMany(ctx, tx, "zone", []string{"zone_set_id", "zone_no", "zone_id", "zone_name", "within_id", "within_name"}, len(p.ZoneSet.Zones), func(i int) []any {
			z := p.ZoneSet.Zones[i]
			return []any{id, i, z.ID, z.Name, z.WithinID, z.WithinName}
		})
	})
	if err != nil {
		return nil, err
	}
	if before != 0 {
		old, err := b.zoneSet(ctx, tx, before)
		if err != nil {
			return nil, err
		}
		notes = append(notes, versionNote("zone set", old.Name, old.Version+1, "zones", old.Zones, p.ZoneSet.Zones, func(z Zone) string { return z.ID }))
	}
	p.Legend.ID, before, err = b.version(ctx, tx, "legend", p.Legend.Name, p.Legend.digest(), func(id int64) error {
		return b.putMany(ctx, tx, "class", []string{"legend_id", "class_no", "class_code", "class_name", "color", "class_group"}, len(p.Legend.Classes), func(i int) []any {
			c := p.Legend.Classes[i]
			return []any{id, i, c.Code, c.Name, c.Color, c.Group}
		})
	})
	if err != nil {
		return nil, err
	}
	if before != 0 {
		old, err := b.legend(ctx, tx, before)
		if err != nil {
			return nil, err
		}
		notes = append(notes, versionNote("legend", old.Name, old.Version+1, "classes", old.Classes, p.Legend.Classes, func(c Class) string { return c.Code }))
	}
	return notes, nil
}

// version finds the version of a legend or zone set with this content, or makes the next one; before is then the one that was the last, 0 for
// none and when nothing was made.
func (b *Book) version(ctx context.Context, tx *txn, table, name, sum string, fill func(id int64) error) (id, before int64, err error) {
	err = tx.QueryRowContext(ctx, b.sql("SELECT "+table+"_id FROM "+table+" WHERE name = ? AND sha256 = ?"), name, sum).Scan(&id)
	if !errors.Is(err, sql.ErrNoRows) {
		return id, 0, err
	}
	var number int
	err = tx.QueryRowContext(ctx, b.sql("SELECT "+table+"_id, version FROM "+table+" WHERE name = ? ORDER BY version DESC LIMIT 1"), name).Scan(&before, &number)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return 0, 0, err
	}
	if err := tx.QueryRowContext(ctx, "SELECT COALESCE(MAX("+table+"_id), 0) + 1 FROM "+table).Scan(&id); err != nil {
		return 0, 0, err
	}
	if _, err := tx.ExecContext(ctx, b.sql("INSERT INTO "+table+" ("+table+"_id, name, version, sha256) VALUES (?, ?, ?, ?)"), id, name, number+1, sum); err != nil {
		return 0, 0, err
	}
	return id, before, fill(id)
}

// versionNote says how a new version differs from the one before.
func versionNote[T comparable](what, name string, number int, many string, before, after []T, key func(T) string) string {
	old := map[string]T{}
	for _, v := range before {
		old[key(v)] = v
	}
	fresh, other := 0, 0
	for _, v := range after {
		if w, ok := old[key(v)]; !ok {
			fresh++
		} else if w != v {
			other++
		}
	}
	gone := len(before) - (len(after) - fresh)
	if fresh+gone+other == 0 {
		return fmt.Sprintf("the %s %s has version %d now: in another order", what, name, number)
	}
	return fmt.Sprintf("the %s %s has version %d now: %d %s new, %d gone, %d with another name or mark", what, name, number, fresh, many, gone, other)
}

// keepUsedClasses leaves out classes that no row has: without a legend, what a table holds is all that is known of the classes.
func (p *Posting) keepUsedClasses() {
	used := map[string]bool{}
	for _, e := range p.Extents {
		used[e.Code] = used[e.Code] || e.Kind == "class"
	}
	for _, m := range p.Moves {
		used[m.From], used[m.To] = true, true
	}
	p.Legend.Classes = slices.DeleteFunc(slices.Clone(p.Legend.Classes), func(c Class) bool { return !used[c.Code] })
}

// adopt gives a posting that was made of bare tables the zone set and legend of its account, where they say the same.
func (b *Book) adopt(ctx context.Context, tx *txn, p *Posting) error {
	if p.ZoneSet.Name != "" && p.Legend.Name != "" {
		return nil
	}
	if p.Legend.Name == "" {
		p.keepUsedClasses()
	}
	// That of the posting which it repeats or corrects, if there is one.
	var zones, legend int64
	err := tx.QueryRowContext(ctx, b.sql("SELECT zone_set_id, legend_id FROM posting WHERE account = ? ORDER BY CASE WHEN kind = ? AND from_epoch = ? AND epoch = ? THEN 1 ELSE 0 END DESC, posting_id DESC LIMIT 1"),
		p.Account, p.Kind, p.From, p.Epoch).Scan(&zones, &legend)
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
