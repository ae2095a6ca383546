"""Languages of a page: headings and number forms, a TOML file for each."""
