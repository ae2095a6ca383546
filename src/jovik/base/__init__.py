"""The basis of every other package.

Results and traces, quantities, errors, text, files, settings.
"""
