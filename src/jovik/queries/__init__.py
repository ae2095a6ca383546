"""Questions of a reader to the shelf, from the records to the answer.

The commands, the review and the Python API ask here, so that all three say the same.
"""
