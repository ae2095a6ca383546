"""What every other package stands on.

Results and traces, quantities, errors, text, files, settings.
"""
