"""Recordings that ship with Jovik, made by simulation (tools/recordings.py)."""
