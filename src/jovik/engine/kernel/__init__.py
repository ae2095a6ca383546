"""The source of the measuring loops.

Imported only to compile them (see `jovik.engine.kernel.library`).
"""
