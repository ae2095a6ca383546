"""The loads that ship with Jovik, one TOML file each; see `jovik.sheets.load`."""
