"""Thresholds of when a machine was loaded.

Source of all: logs of the simulated bench and staircases of loads. They decide where a load begins
and ends.
"""


class LoadSpan:
    """One load, several, or one in bursts."""

    PAUSE = 0.75  # share of the high level to which a load in bursts falls
    FEWEST_BURSTS = 3  # times that it must fall or rise
    FEWEST_IN_BURSTS = 20  # readings that are needed to tell
    BURST_S = 300.0  # s: a longer pause ends a load
    HICCUP_S = 5.0  # s: a shorter pause does not count
    # share of the way from rest to the load: a pause above it is part of the load
    PAUSE_SHARE = 0.1
    SCENE_SHARE = 0.05  # the same for the quiet scenes of a load that is known to vary
    MOSTLY = 0.5  # share of the samples of a pause that must lie there
    STEP_S = 300.0  # s that a step of a load lasts
    STEP_SHARE = 0.15  # share of the way from rest to its highest level that a step is
    SMOOTH_S = 20.0  # s of the running median
    FEWEST = 5  # readings of power that are needed
    # percentiles of the readings that stand for rest and load: spikes do not count
    LEVELS_PCT = (2.0, 90.0)
    # share of the high level: if the low level is above it, there is no rest in the log
    ALWAYS = 0.6
    HICCUP_SHARE = 0.02  # share of the log: a shorter pause does not count either
    REST_S = 10.0  # s of rest that set another load apart
    SHORTEST_S = 60.0  # s: shorter loads of a log with several are left out
    MOVES = 0.1  # share of the load by which means of a load that varies move
    BURSTS_PCT = (5.0, 95.0)  # percentiles of low and high in a load in bursts
    UP, DOWN = 0.6, 0.4  # shares of the way between them: above and below, a burst is on and off


class AbruptRise:
    """The start and end of a load, from the temperature alone."""

    FEWEST = 20  # readings that are needed
    WINDOWS = 60  # windows a log
    READINGS = (3, 30)  # least and most readings of a window
    SIGMAS = 6.0  # standard deviations of the mean of a window that a change must be
    SHARE = 0.03  # share of the range of the log that it must be
    STEEPEST = 0.5  # share of the steepest rise: the first that reaches it is the start
    STEEPEST_FALL = 0.3  # the same for the fall
    CLIMBED = 0.25  # share of it that shows that the load began before the log
    LEAVES_SIGMAS = 4.0  # standard deviations by which a reading leaves its level
    LEAVES_SHARE = 0.04  # share of the range of the log, likewise
    MINUTE_S = 60.0  # s: the first minute of a load, and that after it
    # share of what the first brought that the second must take back, to end the load
    TAKEN_BACK = 0.7
    AGAIN = 0.1  # share of the range of the log by which it rises again if the load goes on
    RESTS = 0.25  # share of the range above the start below which it is at rest
    SCENE_S = 600.0  # s that a quiet scene may last above that
    FALLEN = 0.6  # share of the rise that must be left at most at the end of the log


class UnderLoad:
    """Which samples are under load."""

    STILL_LOADED = 0.2  # share of the load's power above rest: a sample above it is under load
    AT_REST = 0.1  # share of it below which a sample is at rest
    TOLD_APART = 0.5  # power at rest must be below this share of the load's power
    BUSY_PCT = 20.0  # % of the processor: a load that never passes it is none
    AROUND_S = 2.0  # s by which load, power and clock may be read apart
