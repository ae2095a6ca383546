"""Tables for readers, as rows of text.

Made once, printed in a terminal and set in a review alike.
"""

from jovik.tables.table import Table, interval_words

__all__ = ["Table", "interval_words"]
