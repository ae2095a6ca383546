"""One file for each revision."""
