// Package geom holds float32 vectors, boxes and transforms for model space.
package geom

import "math"

// Vec2 is a point in UV space, V growing upwards.
type Vec2 struct{ X, Y float32 }

// Vec3 is a point or direction in model space, in metres, Y up.
type Vec3 struct{ X, Y, Z float32 }

// Vec4 is a tangent: direction in X, Y, Z and the sign of the bitangent in W.
type Vec4 struct{ X, Y, Z, W float32 }

func (a Vec2) Add(b Vec2) Vec2      { return Vec2{a.X + b.X, a.Y + b.Y} }
func (a Vec2) Sub(b Vec2) Vec2      { return Vec2{a.X - b.X, a.Y - b.Y} }
func (a Vec2) Mul(s float32) Vec2   { return Vec2{a.X * s, a.Y * s} }
func (a Vec2) Cross(b Vec2) float32 { return a.X*b.Y - a.Y*b.X }

func (a Vec3) Add(b Vec3) Vec3     { return Vec3{a.X + b.X, a.Y + b.Y, a.Z + b.Z} }
func (a Vec3) Sub(b Vec3) Vec3     { return Vec3{a.X - b.X, a.Y - b.Y, a.Z - b.Z} }
func (a Vec3) Mul(s float32) Vec3  { return Vec3{a.X * s, a.Y * s, a.Z * s} }
func (a Vec3) Dot(b Vec3) float32  { return a.X*b.X + a.Y*b.Y + a.Z*b.Z }
func (a Vec3) Len() float32        { return float32(math.Sqrt(float64(a.Dot(a)))) }
func (a Vec3) Neg() Vec3           { return Vec3{-a.X, -a.Y, -a.Z} }
func (a Vec3) Axis(i int) float32  { return [3]float32{a.X, a.Y, a.Z}[i] }
func (a Vec3) Array() [3]float32   { return [3]float32{a.X, a.Y, a.Z} }
func (a Vec4) XYZ() Vec3           { return Vec3{a.X, a.Y, a.Z} }
func FromArray(a [3]float32) Vec3  { return Vec3{a[0], a[1], a[2]} }
func (a Vec3) Min(b Vec3) Vec3     { return Vec3{min(a.X, b.X), min(a.Y, b.Y), min(a.Z, b.Z)} }
func (a Vec3) Max(b Vec3) Vec3     { return Vec3{max(a.X, b.X), max(a.Y, b.Y), max(a.Z, b.Z)} }
func (a Vec3) Dist(b Vec3) float32 { return a.Sub(b).Len() }

// Cross returns the right-handed vector product.
func (a Vec3) Cross(b Vec3) Vec3 {
	return Vec3{a.Y*b.Z - a.Z*b.Y, a.Z*b.X - a.X*b.Z, a.X*b.Y - a.Y*b.X}
}

// Norm returns a at length one; a zero vector stays zero.
func (a Vec3) Norm() Vec3 {
	l := a.Len()
	if l == 0 {
		return a
	}
	return a.Mul(1 / l)
}

// Lerp goes from a (t = 0) to b (t = 1).
func (a Vec3) Lerp(b Vec3, t float32) Vec3 { return a.Add(b.Sub(a).Mul(t)) }

// Finite tells whether no component is NaN or infinite.
func (a Vec3) Finite() bool {
	s := a.X*0 + a.Y*0 + a.Z*0
	return s == 0
}

// Finite tells whether no component is NaN or infinite.
func (a Vec2) Finite() bool { return a.X*0+a.Y*0 == 0 }

// Bary interpolates over a triangle with weights 1−u−v, u, v.
func Bary(a, b, c Vec3, u, v float32) Vec3 {
	w := 1 - u - v
	return Vec3{a.X*w + b.X*u + c.X*v, a.Y*w + b.Y*u + c.Y*v, a.Z*w + b.Z*u + c.Z*v}
}

// Basis returns two unit vectors that make a right-handed frame with the unit vector n
// (Duff et al., Building an Orthonormal Basis, Revisited, JCGT 2017).
func Basis(n Vec3) (t, b Vec3) {
	s := float32(1)
	if n.Z < 0 {
		s = -1
	}
	a := -1 / (s + n.Z)
	c := n.X * n.Y * a
	return Vec3{1 + s*n.X*n.X*a, s * c, -s * n.X}, Vec3{c, s + n.Y*n.Y*a, -n.Y}
}

// Box is an axis-aligned box; the zero value is not empty, EmptyBox is.
type Box struct{ Min, Max Vec3 }

// EmptyBox contains nothing and grows with Add.
func EmptyBox() Box {
	inf := float32(math.Inf(1))
	return Box{Vec3{inf, inf, inf}, Vec3{-inf, -inf, -inf}}
}

func (b Box) Add(p Vec3) Box  { return Box{b.Min.Min(p), b.Max.Max(p)} }
func (b Box) Union(c Box) Box { return Box{b.Min.Min(c.Min), b.Max.Max(c.Max)} }
func (b Box) Size() Vec3      { return b.Max.Sub(b.Min) }
func (b Box) Centre() Vec3    { return b.Min.Add(b.Max).Mul(0.5) }
func (b Box) Empty() bool     { return b.Min.X > b.Max.X }
func (b Box) Diagonal() float32 {
	if b.Empty() {
		return 0
	}
	return b.Size().Len()
}

// HalfArea is half the surface area, the measure of the surface-area heuristic.
func (b Box) HalfArea() float32 {
	if b.Empty() {
		return 0
	}
	s := b.Size()
	return s.X*s.Y + s.Y*s.Z + s.Z*s.X
}

// Mat4 is a column-major affine transform, as in glTF.
type Mat4 [16]float32

// Identity leaves everything in place.
func Identity() Mat4 { return Mat4{0: 1, 5: 1, 10: 1, 15: 1} }

// Mul returns the transform that applies b first, then a.
func (a Mat4) Mul(b Mat4) Mat4 {
	var r Mat4
	for c := 0; c < 4; c++ {
		for row := 0; row < 4; row++ {
			var s float32
			for k := 0; k < 4; k++ {
				s += a[k*4+row] * b[c*4+k]
			}
			r[c*4+row] = s
		}
	}
	return r
}

// Point applies the transform to a position.
func (a Mat4) Point(p Vec3) Vec3 {
	return Vec3{
		a[0]*p.X + a[4]*p.Y + a[8]*p.Z + a[12],
		a[1]*p.X + a[5]*p.Y + a[9]*p.Z + a[13],
		a[2]*p.X + a[6]*p.Y + a[10]*p.Z + a[14],
	}
}

// Normal applies the cofactor matrix, which carries normals through any scale, then normalises.
// For mirrored transforms the result still points away from the (re-wound) faces.
func (a Mat4) Normal(n Vec3) Vec3 {
	x, y, z := Vec3{a[0], a[1], a[2]}, Vec3{a[4], a[5], a[6]}, Vec3{a[8], a[9], a[10]}
	r := y.Cross(z).Mul(n.X).Add(z.Cross(x).Mul(n.Y)).Add(x.Cross(y).Mul(n.Z))
	if a.Mirrors() {
		r = r.Neg()
	}
	return r.Norm()
}

// Mirrors tells whether the transform turns right hands into left ones.
func (a Mat4) Mirrors() bool {
	x, y, z := Vec3{a[0], a[1], a[2]}, Vec3{a[4], a[5], a[6]}, Vec3{a[8], a[9], a[10]}
	return x.Cross(y).Dot(z) < 0
}

// TRS composes translation, rotation (unit quaternion x, y, z, w) and scale as glTF does.
func TRS(t Vec3, q [4]float32, s Vec3) Mat4 {
	x, y, z, w := q[0], q[1], q[2], q[3]
	return Mat4{
		(1 - 2*(y*y+z*z)) * s.X, 2 * (x*y + z*w) * s.X, 2 * (x*z - y*w) * s.X, 0,
		2 * (x*y - z*w) * s.Y, (1 - 2*(x*x+z*z)) * s.Y, 2 * (y*z + x*w) * s.Y, 0,
		2 * (x*z + y*w) * s.Z, 2 * (y*z - x*w) * s.Z, (1 - 2*(x*x+y*y)) * s.Z, 0,
		t.X, t.Y, t.Z, 1,
	}
}

// Clamp01 limits v to 0–1; NaN becomes 0.
func Clamp01(v float32) float32 {
	if v >= 1 {
		return 1
	}
	if v > 0 {
		return v
	}
	return 0
}
