// Package portable has the functions of package math that give other last digits on another processor, where Go computes them in its assembly, in forms that
// are the same on all. They are made of [math.Expm1] and [math.Log], which Go computes alike wherever products and sums are not fused (the build option in
// the Makefile sees to that), and are right to about two units in the last place.
package portable

import "math"

// Exp is eˣ.
func Exp(x float64) float64 {
	if x < 0 {
		return 1 / (math.Expm1(-x) + 1)
	}
	return math.Expm1(x) + 1
}

// Sinh is the hyperbolic sine.
func Sinh(x float64) float64 {
	t := math.Expm1(math.Abs(x))
	if t > 1<<53 {
		return math.Copysign(t/2, x)
	}
	return math.Copysign((t+t/(t+1))/2, x)
}

// Cosh is the hyperbolic cosine.
func Cosh(x float64) float64 {
	e := math.Expm1(math.Abs(x)) + 1
	return e/2 + 1/(2*e)
}

// Tanh is the hyperbolic tangent.
func Tanh(x float64) float64 {
	t := math.Expm1(2 * math.Abs(x))
	if t > 1<<53 {
		return math.Copysign(1, x)
	}
	return math.Copysign(t/(t+2), x)
}

// Pow is xʸ, with the special cases of [math.Pow].
func Pow(x, y float64) float64 {
	whole, part := math.Modf(y)
	if part == 0 || math.Abs(y) == 0.5 || math.IsInf(y, 0) || !(x > 0) || x == 1 || math.IsInf(x, 1) { // no part of a power
		return math.Pow(x, y)
	}
	return math.Pow(x, whole) * Exp(part*math.Log(x))
}
