"""The handlers of commands, loaded when they are called (`jovik.cli.handled_by`)."""
