"""Thresholds of when a machine was loaded.

Source of all: logs of the simulated bench and staircases of loads. They decide where a load begins
and ends.
"""


class LoadSpan:
    """One load, several, or one in bursts."""

    PAUSE = 0.75  # share of the high level to which a load in bursts falls
    FEWEST_BURSTS = 3  # times that it must fall
    BURST_S = 300.0  # s: a longer pause ends a load
    HICCUP_S = 5.0  # s: a shorter pause does not count
    STEP_S = 300.0  # s that a step of a load lasts
    STEP_SHARE = 0.15  # share of the way from rest to its highest level that a step is
    SMOOTH_S = 20.0  # s of the running median


class UnderLoad:
    """Which samples are under load."""

    STILL_LOADED = 0.2  # share of the load's power above rest: a sample above it is under load
    AT_REST = 0.1  # share of it below which a sample is at rest
    TOLD_APART = 0.5  # power at rest must be below this share of the load's power
    AROUND_S = 2.0  # s by which load, power and clock may be read apart
