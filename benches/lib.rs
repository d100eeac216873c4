//! Nothing: the benchmarks of this package stand beside it.
