"""The suite of truth: what Jovik says, held against series and shelves whose truth is known."""
