"""Records that people write: sheets with claims, readings, and loads."""
