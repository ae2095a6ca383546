"""Statistics, judging and ranking: plain data in, plain data out; no I/O, no clock, no shelf."""
