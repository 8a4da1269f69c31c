"""The path tracer that is measured: compiled scene, kernels, film and records."""
