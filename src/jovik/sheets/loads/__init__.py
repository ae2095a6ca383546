"""The loads that ship with Jovik, one TOML file each (`jovik.sheets.load`)."""
