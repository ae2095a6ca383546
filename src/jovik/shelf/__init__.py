"""The library of drives, units, rigs, runs and readings."""
