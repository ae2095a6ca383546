"""Does I/O to files and times it: the compiled loops, the test file, and the session over both.

Numba is imported only when a session is opened.
"""
