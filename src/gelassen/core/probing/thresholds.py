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


class Sweep:
    """Which fan a duty drives, and from which duty it turns."""

    STANDS_RPM = 60.0  # rpm below which a fan counts as standing: a slow one turns at 200 and more
    DRIVES_SHARE = 0.1  # share of its highest speed by which a duty moves a fan that it drives
    FALLS_SHARE = 0.05  # share of its highest speed that a fan may fall while its own duty rises
    DEAD_SHARE = 0.2  # share of the mean slope below which speed counts as not following the duty
    DEAD_PCT = 10.0  # % of duty: shorter ranges are not told
