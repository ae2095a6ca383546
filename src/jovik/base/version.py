"""The version, where every layer can read it."""

VERSION = "0.1.0"
