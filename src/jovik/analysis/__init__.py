"""Statistics, judging and ranking on plain data, without I/O, clock or shelf."""
