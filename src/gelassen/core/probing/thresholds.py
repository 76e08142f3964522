"""Thresholds of which channels respond, and how probes agree.

Source of all: simulated sensors.
"""


class Response:
    """Which channels respond to load."""

    SIGMAS = 4.0  # a response is at least this many standard deviations of the means
    STEPS = 0.75  # steps of the sensor that it is at least
    FOLLOWED = 0.632  # share of its way (1 - 1/e) that gives the time constant
    INDEPENDENT = 5  # readings of a stretch that count as independent at most


class Offsets:
    """Offsets of probes at one place."""

    BLOCKS = 8  # means of blocks that outlast the memory of the readings
    # K, and standard deviations of the means, by which a probe may move
    MOVED_K, MOVED_SIGMAS = 0.1, 4.0
    LEAST = 4 * BLOCKS  # readings that are needed
