"""Thresholds of which channels respond, and how probes agree.

Source of all: simulated sensors.
"""


class Response:
    """Which channels respond to load."""

    SIGMAS = 4.0  # a response is at least this many standard deviations of the means
    INDEPENDENT = 5  # readings of a stretch that count as independent at most


class Offsets:
    """Offsets of probes at one place."""

    BLOCKS = 8  # means of blocks that outlast the memory of the readings
    LEAST = 4 * BLOCKS  # readings that are needed
