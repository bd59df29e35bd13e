package cql

import (
	"cmp"
	"fmt"
	"math"
	"math/big"
	"strings"
	"unicode/utf8"

	"github.com/verdex-land/verdex/core/portable"
)

// Holds evaluates a condition for the values that get gives for names: float64, string, bool, int64 for a whole
// number that float64 may not hold, or nil for null. Null in the end is false. Values of a wrong kind are an error that names the attribute.
func (e *Expr) Holds(get func(name string) any) (bool, error) {
	v, err := e.value(e.root, get)
	if err != nil {
		return false, err
	}
	switch t := v.(type) {
	case bool:
		return t, nil
	case nil:
		return false, nil
	}
	return false, &SyntaxError{e.Text, e.root.at, fmt.Sprintf("this is %v, but a condition is needed", kindOf(v))}
}

func kindOf(v any) Kind {
	switch v.(type) {
	case float64, int64:
		return Number
	case string:
		return Text
	case bool:
		return Truth
	}
	return Any
}

func (e *Expr) value(n *node, get func(string) any) (any, error) {
	switch n.op {
	case opNumber:
		if n.whole != 0 {
			return n.whole, nil
		}
		return n.num, nil
	case opText:
		return n.text, nil
	case opTruth:
		return n.num == 1, nil
	case opName:
		v := get(n.text)
		if f, ok := v.(float64); ok && math.IsNaN(f) {
			return nil, nil
		}
		return v, nil
	case opAnd, opOr:
		return e.logic(n, get)
	}
	args := make([]any, len(n.args))
	for i, a := range n.args {
		v, err := e.value(a, get)
		if err != nil {
			return nil, err
		}
		args[i] = v
	}
	need := func(i int, k Kind) error {
		if got := kindOf(args[i]); got != k && args[i] != nil {
			return &SyntaxError{e.Text, n.args[i].at, fmt.Sprintf("this is %v where %v is needed", got, k)}
		}
		return nil
	}
	switch n.op {
	case opNull:
		return args[0] == nil, nil
	case opNot:
		if args[0] == nil {
			return nil, need(0, Truth)
		}
		if err := need(0, Truth); err != nil {
			return nil, err
		}
		return !args[0].(bool), nil
	case opCasei:
		if err := need(0, Text); err != nil || args[0] == nil {
			return nil, err
		}
		return strings.ToLower(args[0].(string)), nil
	case opLike:
		for i := range args {
			if err := need(i, Text); err != nil || args[i] == nil {
				return nil, err
			}
		}
		return like(args[0].(string), args[1].(string)), nil
	case opIn:
		if args[0] == nil {
			return nil, nil
		}
		unknown := false
		for i := 1; i < len(args); i++ {
			c, ok, err := e.compare(n.args[i], args[0], args[i])
			if err != nil {
				return nil, err
			}
			if ok && c == 0 {
				return true, nil
			}
			unknown = unknown || !ok
		}
		if unknown {
			return nil, nil
		}
		return false, nil
	case opBetween:
		low, ok1, err := e.compare(n.args[1], args[0], args[1])
		if err != nil {
			return nil, err
		}
		high, ok2, err := e.compare(n.args[2], args[0], args[2])
		if err != nil {
			return nil, err
		}
		switch {
		case ok1 && low < 0 || ok2 && high > 0:
			return false, nil
		case ok1 && ok2:
			return true, nil
		}
		return nil, nil
	case opEq, opNe, opLt, opLe, opGt, opGe:
		c, ok, err := e.compare(n.args[1], args[0], args[1])
		if err != nil || !ok {
			return nil, err
		}
		return holds(n.op, c), nil
	}
	for i := range args { // arithmetic
		if err := need(i, Number); err != nil || args[i] == nil {
			return nil, err
		}
	}
	a, b := float(args[0]), 0.0
	if len(args) > 1 {
		b = float(args[1])
	}
	if v := compute(n.op, a, b); !math.IsNaN(v) {
		return v, nil
	}
	return nil, nil // a division by zero is null
}

func holds(o op, c int) bool {
	switch o {
	case opEq:
		return c == 0
	case opNe:
		return c != 0
	case opLt:
		return c < 0
	case opLe:
		return c <= 0
	case opGt:
		return c > 0
	}
	return c >= 0
}

// compute is the arithmetic of two numbers; NaN where there is no result.
func compute(o op, a, b float64) float64 {
	v := math.NaN()
	if a != a || b != b { // also where a power would have a result without it
		return v
	}
	switch o {
	case opAdd:
		v = a + b
	case opSub:
		v = a - b
	case opMul:
		v = a * b
	case opDiv:
		v = a / b
	case opMod:
		v = math.Mod(a, b)
	case opIntDiv:
		v = math.Trunc(a / b)
	case opPow:
		v = portable.Pow(a, b)
	case opNeg:
		v = -a
	}
	if math.IsInf(v, 0) {
		return math.NaN()
	}
	return v
}

// logic is AND and OR with three values; the second is not looked at when the first decides.
func (e *Expr) logic(n *node, get func(string) any) (any, error) {
	decides := n.op == opOr // the truth that decides
	unknown := false
	for _, a := range n.args {
		v, err := e.value(a, get)
		if err != nil {
			return nil, err
		}
		switch t := v.(type) {
		case nil:
			unknown = true
		case bool:
			if t == decides {
				return t, nil
			}
		default:
			return nil, &SyntaxError{e.Text, a.at, fmt.Sprintf("this is %v where a condition is needed", kindOf(v))}
		}
	}
	if unknown {
		return nil, nil
	}
	return !decides, nil
}

// order compares two numbers exactly, a whole one with a float64 too.
func order(a, b any) int {
	x, ok1 := a.(float64)
	y, ok2 := b.(float64)
	if ok1 && ok2 {
		return cmp.Compare(x, y)
	}
	return exact(a).Cmp(exact(b))
}

func exact(v any) *big.Float {
	if n, ok := v.(int64); ok {
		return new(big.Float).SetInt64(n)
	}
	return big.NewFloat(v.(float64))
}

func float(v any) float64 {
	if n, ok := v.(int64); ok {
		return float64(n)
	}
	return v.(float64)
}

// compare orders two values of one kind; false when one of them is null.
func (e *Expr) compare(at *node, a, b any) (int, bool, error) {
	if a == nil || b == nil {
		return 0, false, nil
	}
	switch x := a.(type) {
	case float64, int64:
		if kindOf(b) == Number {
			return order(a, b), true, nil
		}
	case string:
		if y, ok := b.(string); ok {
			return strings.Compare(x, y), true, nil
		}
	case bool:
		if y, ok := b.(bool); ok {
			switch {
			case x == y:
				return 0, true, nil
			case y:
				return -1, true, nil
			}
			return 1, true, nil
		}
	}
	return 0, false, &SyntaxError{e.Text, at.at, fmt.Sprintf("this is %v, which is compared with %v", kindOf(b), kindOf(a))}
}

// like matches a text with a pattern in which % stands for any characters, _ for one, and a backslash takes
// the meaning of what follows. It goes back to the last % only, so that it takes no more than their product.
func like(s, pattern string) bool {
	star, back := -1, 0
	i, k := 0, 0
	for i < len(s) {
		r, size := utf8.DecodeRuneInString(s[i:])
		if k < len(pattern) {
			c, n := utf8.DecodeRuneInString(pattern[k:])
			switch {
			case c == '%':
				star, back = k+n, i
				k += n
				continue
			case c == '_':
				i, k = i+size, k+n
				continue
			case c == '\\' && k+n < len(pattern):
				if e, m := utf8.DecodeRuneInString(pattern[k+n:]); e == r {
					i, k = i+size, k+n+m
					continue
				}
			case c == r:
				i, k = i+size, k+n
				continue
			}
		}
		if star < 0 {
			return false
		}
		_, n := utf8.DecodeRuneInString(s[back:])
		back += n
		i, k = back, star
	}
	for k < len(pattern) && pattern[k] == '%' {
		k++
	}
	return k == len(pattern)
}
