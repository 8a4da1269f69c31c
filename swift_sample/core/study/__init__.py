"""Studies: one scene, one base, the values to try, the limits, and everything measured."""
