"""Thresholds of which channels respond, and how probes agree.

Source of all: simulated sensors.
"""


class Response:
    """Which channels respond to load."""

    SIGMAS = 4.0  # scatters of the means that a change must be
    INDEPENDENT = 5  # readings of a stretch that count as independent at most


class Offsets:
    """Offsets of probes that lie together."""

    BLOCKS = 8  # means of blocks that outlast the memory of the readings
    LEAST = 4 * BLOCKS  # readings that are needed
