"""Answers to the questions that commands and notebooks ask: one object each, for every format."""
