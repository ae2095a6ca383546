"""Charts: plain data from the analysis, and two renderers."""
