"""Classes of drives with the figures that are usual for them, a TOML file each."""
