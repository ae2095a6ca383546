"""What each command does, loaded when it is called (`jovik.cli.handled_by`)."""
