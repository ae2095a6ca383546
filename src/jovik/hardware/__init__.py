"""The machine: block devices, links, mounts, what may be written, health logs, temperatures, the load of the host."""
