"""What the shelf answers: each question of a reader, from the records to the verdict.

The commands, the review and the Python API ask here, so that all three say the same.
"""
