"""The source of the measuring loops; imported only to compile them (see `jovik.engine.code_cache`)."""
