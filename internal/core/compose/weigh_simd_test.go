//go:build goexperiment.simd && amd64 && !plain

package compose

import "crust/internal/core/accel"

func init() {
	if accel.HasSIMD {
		kernels["eight lanes"] = (*weighing).meanSIMD
	}
	if hasWide {
		kernels["wide"] = (*weighing).meanWide
	}
}
