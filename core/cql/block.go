package cql

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/portable"
)

// BlockSize is how many numbers a Program works on at once, at most: few enough to stay in the nearest cache.
const BlockSize = 2048

// Truths are three-valued: 0 is false, 1 true, 2 neither.
const (
	False uint8 = iota
	True
	Unknown
)

// Program is an expression made ready to be evaluated for blocks of numbers. NaN stands for null. It keeps
// scratch space and serves one goroutine.
type Program struct {
	in     [][]float64
	number func(n int) []float64
	truth  func(n int) []uint8
	zeros  int64
	large  int64
}

// Compile makes a program whose names are the places of its blocks. Texts cannot be computed with here. single says, by name, which
// blocks hold numbers of single precision (nil for none): what they are compared with is then rounded to single precision too, so that a cell of
// 0.7 is equal to 0.7 and not below it.
func (e *Expr) Compile(names []string, single []bool, want Kind) (*Program, error) {
	if err := e.Known(names, "layer"); err != nil {
		return nil, err
	}
	if want == Truth && e.root.kind == Any { // a name by itself, which is a number here
		return nil, &SyntaxError{e.Text, e.root.at, fmt.Sprintf("the layer %s holds numbers, which are neither true nor false: compare it, as in %s = 1", e.root.text, e.root.text)}
	}
	p := &Program{in: make([][]float64, len(names))}
	c := &compiler{p: p, e: e, at: map[string]int{}, single: map[string]bool{}}
	for i, n := range names {
		c.at[n] = i
		c.single[n] = i < len(single) && single[i]
	}
	var err error
	if e.root.kind == Truth {
		p.truth, err = c.truth(e.root)
	} else {
		p.number, err = c.number(e.root)
	}
	return p, err
}

// Numbers evaluates an arithmetic expression: in holds the block of each name, all of one length up to
// BlockSize. What is returned is valid until the next call.
func (p *Program) Numbers(in [][]float64) []float64 {
	copy(p.in, in)
	return p.number(len(in[0]))
}

// Truths evaluates a condition, likewise.
func (p *Program) Truths(in [][]float64) []uint8 {
	copy(p.in, in)
	return p.truth(len(in[0]))
}

// ZeroDivisions is how many numbers were divided by zero so far; the outcome of each is null.
func (p *Program) ZeroDivisions() int64 { return p.zeros }

// Overflows is how many outcomes were too large for a number so far; each of them is null.
func (p *Program) Overflows() int64 { return p.large }

type compiler struct {
	p      *Program
	e      *Expr
	at     map[string]int
	single map[string]bool // names of single precision
}

func (c *compiler) refuse(n *node) error {
	return &SyntaxError{c.e.Text, n.at, fmt.Sprintf("this is %v, and layers hold numbers", n.kind)}
}

// constant is the number of a node that does not change, if it is one.
func constant(n *node) (float64, bool) {
	if n.op == opNeg && n.args[0].op == opNumber {
		return -n.args[0].num, true
	}
	return n.num, n.op == opNumber
}

// limit is the number that a value is compared with, in the value's precision.
func (c *compiler) limit(value *node, v float64) float64 {
	if value.op == opName && c.single[value.text] {
		return float64(float32(v))
	}
	return v
}

// side is what a value is compared with.
func (c *compiler) side(value, n *node) (func(int) []float64, error) {
	if v, ok := constant(n); ok {
		n = &node{op: opNumber, at: n.at, kind: Number, num: c.limit(value, v)}
	}
	return c.number(n)
}

// finite makes null of what is too large for a number, and counts it.
func (p *Program) finite(dst, x, y []float64) {
	// A number less itself is 0, unless it is infinite or null: most blocks have neither.
	var a, b, c, d float64
	rest := dst
	for ; len(rest) >= 4; rest = rest[4:] {
		a += rest[0] - rest[0]
		b += rest[1] - rest[1]
		c += rest[2] - rest[2]
		d += rest[3] - rest[3]
	}
	for _, v := range rest {
		a += v - v
	}
	if a+b+c+d == 0 {
		return
	}
	for i, v := range dst {
		if v-v != 0 && v == v { // infinite
			if x[i]-x[i] == 0 && y[i]-y[i] == 0 {
				p.large++
			}
			dst[i] = math.NaN()
		}
	}
}

func (c *compiler) number(n *node) (func(int) []float64, error) {
	switch n.op {
	case opNumber:
		block := make([]float64, BlockSize)
		for i := range block {
			block[i] = n.num
		}
		return func(k int) []float64 { return block[:k] }, nil
	case opName:
		i, p := c.at[n.text], c.p
		return func(k int) []float64 { return p.in[i][:k] }, nil
	case opNeg:
		a, err := c.number(n.args[0])
		out := make([]float64, BlockSize)
		return func(k int) []float64 {
			x := a(k)
			for i := range x {
				out[i] = -x[i]
			}
			return out[:k]
		}, err
	case opAdd, opSub, opMul, opDiv, opMod, opIntDiv, opPow:
		a, err := c.number(n.args[0])
		if err != nil {
			return nil, err
		}
		b, err := c.number(n.args[1])
		return c.binary(n.op, a, b), err
	}
	return nil, c.refuse(n)
}

// binary makes the loop of an operation.
func (c *compiler) binary(o op, a, b func(int) []float64) func(int) []float64 {
	out := make([]float64, BlockSize)
	p := c.p
	loop := func(f func(dst, x, y []float64)) func(int) []float64 {
		return func(k int) []float64 {
			x, y := a(k), b(k)
			dst := out[:k]
			f(dst, x[:k], y[:k])
			p.finite(dst, x[:k], y[:k])
			return dst
		}
	}
	switch o {
	case opAdd:
		return loop(func(dst, x, y []float64) {
			x, y = x[:len(dst)], y[:len(dst)]
			for i := range dst {
				dst[i] = x[i] + y[i]
			}
		})
	case opSub:
		return loop(func(dst, x, y []float64) {
			x, y = x[:len(dst)], y[:len(dst)]
			for i := range dst {
				dst[i] = x[i] - y[i]
			}
		})
	case opMul:
		return loop(func(dst, x, y []float64) {
			x, y = x[:len(dst)], y[:len(dst)]
			for i := range dst {
				dst[i] = x[i] * y[i]
			}
		})
	case opDiv:
		return loop(func(dst, x, y []float64) {
			x, y = x[:len(dst)], y[:len(dst)]
			for i := range dst {
				if y[i] == 0 {
					if x[i] == x[i] {
						p.zeros++
					}
					dst[i] = math.NaN()
					continue
				}
				dst[i] = x[i] / y[i]
			}
		})
	}
	return loop(func(dst, x, y []float64) {
		for i := range dst {
			if (o == opMod || o == opIntDiv) && y[i] == 0 && x[i] == x[i] {
				p.zeros++
			}
			if dst[i] = compute(o, x[i], y[i]); o == opPow && dst[i] != dst[i] && x[i]-x[i] == 0 && y[i]-y[i] == 0 && math.IsInf(portable.Pow(x[i], y[i]), 0) {
				p.large++
			}
		}
	})
}

func (c *compiler) truth(n *node) (func(int) []uint8, error) {
	out := make([]uint8, BlockSize)
	switch n.op {
	case opTruth:
		for i := range out {
			out[i] = uint8(n.num)
		}
		return func(k int) []uint8 { return out[:k] }, nil
	case opAnd, opOr:
		a, err := c.truth(n.args[0])
		if err != nil {
			return nil, err
		}
		b, err := c.truth(n.args[1])
		table := &andTable
		if n.op == opOr {
			table = &orTable
		}
		return func(k int) []uint8 {
			x, y := a(k), b(k)
			for i := range k {
				out[i] = table[(x[i]<<2|y[i])&15]
			}
			return out[:k]
		}, err
	case opNot:
		a, err := c.truth(n.args[0])
		return func(k int) []uint8 {
			for i, v := range a(k) {
				out[i] = notTable[v&3]
			}
			return out[:k]
		}, err
	case opNull:
		a, err := c.number(n.args[0])
		return func(k int) []uint8 {
			for i, v := range a(k) {
				out[i] = truthOf(v != v)
			}
			return out[:k]
		}, err
	case opBetween:
		return c.between(n, out)
	case opIn:
		return c.in(n, out)
	case opEq, opNe, opLt, opLe, opGt, opGe:
		a, err := c.side(n.args[1], n.args[0])
		if err != nil {
			return nil, err
		}
		b, err := c.side(n.args[0], n.args[1])
		if v, ok := constant(n.args[1]); ok {
			return compareConstant(n.op, a, c.limit(n.args[0], v), out), err
		}
		o := n.op
		return func(k int) []uint8 {
			x, y := a(k), b(k)
			for i := range k {
				if x[i] != x[i] || y[i] != y[i] {
					out[i] = Unknown
					continue
				}
				s := 0
				if x[i] < y[i] {
					s = -1
				} else if x[i] > y[i] {
					s = 1
				}
				out[i] = truthOf(holds(o, s))
			}
			return out[:k]
		}, err
	}
	return nil, c.refuse(n)
}

// Tables of three-valued logic, by the first truth × 4 + the second.
var (
	andTable = [16]uint8{0, 0, 0, 0, 0, 1, 2, 0, 0, 2, 2, 0}
	orTable  = [16]uint8{0, 1, 2, 0, 1, 1, 1, 0, 2, 1, 2, 0}
	notTable = [4]uint8{1, 0, 2, 0}
)

func truthOf(b bool) uint8 {
	if b {
		return True
	}
	return False
}

// compareConstant is the loop of a comparison with a number, the rule in conditions: one for each operator, because a
// call for each number would take most of the time.
func compareConstant(o op, a func(int) []float64, v float64, out []uint8) func(int) []uint8 {
	loops := map[op]func(out []uint8, x []float64){
		opEq: func(out []uint8, x []float64) {
			for i, x := range x {
				out[i] = truthOf(x == v) | unknownOf(x)
			}
		},
		opNe: func(out []uint8, x []float64) {
			for i, x := range x {
				out[i] = truthOf(x != v && x == x) | unknownOf(x)
			}
		},
		opLt: func(out []uint8, x []float64) {
			for i, x := range x {
				out[i] = truthOf(x < v) | unknownOf(x)
			}
		},
		opLe: func(out []uint8, x []float64) {
			for i, x := range x {
				out[i] = truthOf(x <= v) | unknownOf(x)
			}
		},
		opGt: func(out []uint8, x []float64) {
			for i, x := range x {
				out[i] = truthOf(x > v) | unknownOf(x)
			}
		},
		opGe: func(out []uint8, x []float64) {
			for i, x := range x {
				out[i] = truthOf(x >= v) | unknownOf(x)
			}
		},
	}
	loop := loops[o]
	return func(k int) []uint8 {
		x := a(k)
		loop(out[:len(x)], x)
		return out[:k]
	}
}

// unknownOf is Unknown for null and 0 for numbers.
func unknownOf(x float64) uint8 {
	var u uint8
	if x != x {
		u = Unknown
	}
	return u
}

func (c *compiler) between(n *node, out []uint8) (func(int) []uint8, error) {
	var f [3]func(int) []float64
	for i := range f {
		var err error
		if f[i], err = c.side(n.args[0], n.args[i]); err != nil {
			return nil, err
		}
	}
	return func(k int) []uint8 {
		x, low, high := f[0](k), f[1](k), f[2](k)
		for i := range k {
			switch {
			case x[i] < low[i] || x[i] > high[i]:
				out[i] = False
			case x[i] >= low[i] && x[i] <= high[i]:
				out[i] = True
			default:
				out[i] = Unknown
			}
		}
		return out[:k]
	}, nil
}

func (c *compiler) in(n *node, out []uint8) (func(int) []uint8, error) {
	a, err := c.number(n.args[0])
	if err != nil {
		return nil, err
	}
	var values []float64
	for _, m := range n.args[1:] {
		v, ok := constant(m)
		if !ok {
			if m.kind != Number {
				return nil, c.refuse(m)
			}
			return nil, &SyntaxError{c.e.Text, m.at, "over layers, the items of IN are numbers written out"}
		}
		values = append(values, c.limit(n.args[0], v))
	}
	return func(k int) []uint8 {
		x := a(k)
		dst := out[:len(x)]
		first := values[0]
		for i, x := range x {
			dst[i] = truthOf(x == first) | unknownOf(x)
		}
		for _, v := range values[1:] {
			for i, x := range x {
				dst[i] |= truthOf(x == v)
			}
		}
		return dst
	}, nil
}
