"""What every other package stands on: results and traces, quantities, errors, text, files, settings."""
