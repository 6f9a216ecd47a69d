package demo

import "crust/internal/core/mesh"

// Bollard is a mooring bollard, 62 cm high, on which finishes are shown: a flange with bolts and a weld, a column with a groove
// that ropes have worn, a cap, and a flat plate.
func Bollard() *mesh.Model {
	k := &kit{material: "bollard", colour: [3]float32{0.5, 0.5, 0.5}}
	const weldR, weldY = 0.142, 0.052
	k.add(revolve("flange", newProfile(false, corner{0.30, 0, 0}, corner{0.30, weldY - 0.006, 0.008}, corner{weldR, weldY - 0.006, 0}), v3{}, 0, turn, 64))
	k.add(ring("weld", v3{0, weldY, 0}, v3{1, 0, 0}, v3{0, 0, 1}, weldR, 0.010, 0, turn, 72, 10))
	k.add(revolve("column", newProfile(false, corner{0.138, weldY, 0}, corner{0.122, 0.12, 0.05}, corner{0.118, 0.28, 0.02}, corner{0.100, 0.31, 0.02}, corner{0.100, 0.35, 0.02}, corner{0.120, 0.38, 0.02}, corner{0.132, 0.43, 0.03}), v3{}, 0, turn, 64))
	k.add(revolve("cap", newProfile(false, corner{0.132, 0.43, 0}, corner{0.215, 0.455, 0.02}, corner{0.215, 0.525, 0.03}, corner{0.15, 0.60, 0.06}, corner{0.0001, 0.615, 0}), v3{}, 0, turn, 64))
	for _, a := range []v3{{0.225, 0, 0.09}, {-0.225, 0, 0.09}, {0.09, 0, -0.225}, {0.05, 0, 0.24}} {
		k.nut("bolts", v3{a[0], weldY - 0.004, a[2]}, v3{0, 1, 0}, 0.024)
	}
	k.slab("plate", v3{-0.075, 0.20, 0.112}, v3{0.83, 0, 0.556}, v3{0, 1, 0}, v3{-0.556, 0, 0.83}, 0.10, 0.07, 0.02)
	low, _ := build([]*kit{k})
	return low
}
