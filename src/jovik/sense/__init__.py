"""What can be sensed around a run: the machine it is on."""
