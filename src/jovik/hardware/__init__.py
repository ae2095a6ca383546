"""The machine: devices, links, mounts, write safety, health logs, temperatures, host load."""
