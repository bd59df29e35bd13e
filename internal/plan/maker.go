package plan

import (
	"context"
	"encoding/json"
	"fmt"

	"crypto/sha256"
	"encoding/hex"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
)

// Maker makes the layers and the zones that a plan defines.
type Maker struct{ Plan *Plan }

// Defines implements [job.Maker].
func (m Maker) Defines(name string) bool { return m.Plan.defines(name) }

// Raster implements [job.Maker]. The key of a derived layer is made of its options and of the content of what it reads.
func (m Maker) Raster(ctx context.Context, env job.Env, name string) (*job.Raster, string, error) {
	l := m.Plan.layer(name)
	if l == nil || l.File != "" {
		return nil, "", nil
	}
	below := &nested{Maker: m}
	env.Maker = below
	var r *job.Raster
	var err error
	switch o := l.make.(type) {
	case *job.ExpressionOptions:
		var d *job.Derived
		if d, err = job.DeriveExpression(ctx, env, *o); err == nil {
			r = d.Raster
		}
	case *job.SlopeOptions:
		var d *job.Derived
		if d, err = job.DeriveSlope(ctx, env, *o); err == nil {
			r = d.Raster
		}
	case *job.CompositeOptions:
		r, err = job.DeriveComposite(ctx, env, *o)
	case *job.RulesOptions:
		var d *job.RuledRaster
		if d, err = job.DeriveRules(ctx, env, *o); err == nil {
			r = d.Raster
		}
	}
	if err != nil {
		return nil, "", fmt.Errorf("the layer %s: %w", name, err)
	}
	key, err := m.key(env, l, r, below.keys)
	if err != nil {
		r.Close()
		return nil, "", err
	}
	return r, key, nil
}

// key is the key of a derived layer.
func (m Maker) key(env job.Env, l *Layer, r *job.Raster, below []string) (string, error) {
	h := sha256.New()
	options, err := json.Marshal(l.make)
	if err != nil {
		return "", err
	}
	h.Write(options)
	for _, in := range r.Inputs {
		digest := in.Path
		if env.Counter != nil {
			if digest, err = env.Counter.Digest(in.Path); err != nil {
				return "", err
			}
		}
		fmt.Fprintln(h, in.Role, digest)
	}
	for _, k := range below {
		fmt.Fprintln(h, k)
	}
	return "made " + hex.EncodeToString(h.Sum(nil)), nil
}

// nested notes the keys of the layers that a layer is made of.
type nested struct {
	Maker
	keys []string
}

func (n *nested) Raster(ctx context.Context, env job.Env, name string) (*job.Raster, string, error) {
	r, key, err := n.Maker.Raster(ctx, env, name)
	if key != "" {
		n.keys = append(n.keys, key)
	}
	return r, key, err
}

// Zones implements [job.Maker].
func (m Maker) Zones(ctx context.Context, env job.Env, name string) (*job.Features, error) {
	z := m.Plan.zoneSet(name)
	if z == nil || z.set["merge"] == nil {
		return nil, nil
	}
	o := new(job.MergeOptions)
	option.Fill(o)
	from := section{"file": z.set["zones"], "zone-id": z.set["merge"], "where": z.set["where"], "zones-crs": z.set["zones-crs"], "sum": z.set["sum"], "keep": z.set["keep"]}
	m.Plan.fill(o, from, nil)
	env.Maker = nil // the file of the zones may have the name of the set
	return job.MergeZones(ctx, env, *o)
}

// definitions describe what the plan defines, for the keys of steps that use some of it.
func (p *Plan) definitions() string {
	var out []any
	for _, l := range p.Layers {
		out = append(out, l.Name, l.File, l.make)
	}
	for _, z := range p.Zones {
		for _, name := range []string{"zones", "merge", "where", "zones-crs", "sum", "keep"} {
			if v := z.set[name]; v != nil {
				texts, _ := v.scalars()
				out = append(out, z.Name, name, texts)
			}
		}
	}
	b, err := json.Marshal(out)
	if err != nil {
		panic(err) // options are texts, numbers and lists
	}
	return string(b)
}
