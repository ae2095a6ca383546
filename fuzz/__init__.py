"""Fuzzing what reads foreign text and bytes: see run.py."""
