"""Which channels respond to load, and whether probes in one place agree."""
