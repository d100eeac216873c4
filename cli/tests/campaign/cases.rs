//! Cases that fell once, in the smallest form that was found: each runs by itself.
