"""Priors and numerical limits of comparisons.

Each group names its source and what it changes.
"""

import numpy as np


class Bias:
    """Source: rule of thumb. It widens differences that were corrected for unlike runs."""

    DOUBT = 1.0  # standard deviation of a correction, as a share of it


class Censored:
    """Runs at their limit beside free runs of their setup. Source: rigs in general."""

    USUAL_K = 0.5  # K: what runs of one setup scatter by
    FREEDOM = 2.0  # degrees of freedom with which that is joined to the scatter of these runs
    ROUNDS = 30  # rounds of expectation and maximisation


class Days:
    """What runs of one day share.

    Source: rooms of the simulated bench; the grid is a convention. It widens differences between setups
    that were run on different days.
    """

    BETWEEN_K = 0.3  # K: rises over a measured room, from day to day (standard deviation)
    NO_ROOM_K = 2.0  # K: temperatures without a room, from day to day
    WITHIN_SHARE = 0.35  # share of that by which the room also moves within a day
    LOG_SPREAD = 0.7  # spread of the logarithm of that, where runs can tell: half to twice as much
    GRID = (-3.0, 3.0, 9)  # of the logarithm of both spreads, in units of theirs: from, to, points
    MOST_RUNS = 150  # runs beyond which the stated size is taken: the sum would take seconds


class Extrapolated:
    """Source: halves of loads on random machines, whose errors correlate by 0.45 within a setup."""

    SHARED = 0.45  # share of the error variance of an unsettled run that runs of its setup share


class Comparability:
    """Source: convention. They decide which runs are called odd."""

    SIGMAS = 4.0  # scatters from its peers at which a run is odd
    LEAST_PEERS = 2  # peers that are needed
    TWICE = 2.0  # times the difference that matters between setups that a single run may be off
    WORTH_SAYING_K = 0.05  # K: a smaller effect on the rise is not told
    HELD_SHARE = 0.05  # share of the load that a run must be held back to be unlike its peers
    PEERS_FREE = 0.01  # and its peers less than this share
    # ratio of two speeds or powers beyond which no rule of thumb holds, such as of a fan that stands
    FAR_RATIO = 4.0
    UNLOGGED_ROOM_C = 22.0  # °C: a room that was not logged, where the size of a rise is needed


class Comparison:
    """Source: convention of experiment design."""

    MOST_RUNS = 50  # runs that are suggested at most
    COPIED = 1e-9  # difference of repeats, in their unit, below which they were copied
    BESIDE_ZERO = 1e-9  # end of an interval that leaves out zero only by a verdict in steps
    P_HALVINGS = 10  # halvings in the search for a p value in steps
    MOST_LETTERS = 200  # letters: with more, none are given
    POWER = 0.8  # probability with which the suggested number of runs settles the question


class Drift:
    """Source: convention. A line through three points tells nothing of its error."""

    FEWEST_RUNS = 4  # runs that a trend needs
    DIGITS = 1e-6  # share of a value within which runs are equal: readings have no more digits
    LEAST = 1e-9  # the same for values of zero


class EqualPoint:
    """Source: rise over fan speed on the simulated bench.

    They widen rises between measured levels.
    """

    # departures of a course's middle from the straight line, as shares of its height
    SHARES = np.array([0.01, 0.03, 0.07, 0.15, 0.3])
    USUAL = np.array([0.25, 0.25, 0.25, 0.2, 0.05])  # how usual each of them is
    AT_MIDDLE = 1 / 48  # variance of an integrated Wiener process at the middle of such a line


class Mounting:
    """Numerical limits."""

    UNKNOWN = 1e4  # times the whole variance that stands for a remounting of unknown effect
    LEAST_SHARE = 1e-7  # share of the largest variance below which no run is taken to be known


class Multiplicity:
    """Numerical limits of simulated distributions."""

    SIMULATED = 40_000  # draws
    EXACT_PAIRS = 300  # pairs up to which each chance is an integral; a table starts slowly
    MOST_IN_STEPS = 12  # setups up to which verdicts go on in steps


class Optimum:
    """Numerical limits."""

    FEWEST_LEVELS = 4  # levels that are needed
    GRID = 101  # points of the course
    DRAWS = 2000  # draws of it


class Work:
    """Source: convention. It decides which setups did the same work."""

    ALIKE = 0.05  # share of work or power by which setups that did the same may differ


class Spread:
    """Source: rigs in general.

    It widens differences a little: one common spread is not quite each setup's.
    """

    # K and degrees of freedom: what runs of one setup scatter by where coolers are remounted. It
    # steadies the estimate of few repeats.
    USUAL_K = (0.5, 4.0)
    # the same where nothing was repeated and nobody knows the rig: the median of the prior below, so
    # that a rig that scatters by 1 K is wrongly told apart in 5 % of pairs
    STANDS_IN_K = (0.7, 4.0)
    # share of its mean that a score, clock or power scatters by between runs, and degrees of freedom
    USUAL_SHARE = (0.005, 4.0)
    LEAST = 1e-6  # a spread of zero would tell everything apart
    TOLD_FREEDOM = 10.0  # degrees of freedom with which a tester's own word is taken to be known
    # where something was repeated, the prior of the spread: its median in units of the usual spread, the
    # spread of its logarithm, and the degrees of freedom of its tails
    MEDIAN = 1.4
    LOG_SPREAD = 1.0  # see above
    TAILS = 3.0  # see above
    GRID = (-4.0, 4.0, 161)  # of the logarithm, in units of its spread: from, to, points
    # degrees of freedom that spreads differing by a seventh (spread of the logarithm) leave
    # (Satterthwaite)
    SPREADS_DIFFER = 40.0
    OWN_FREEDOM = 30.0  # degrees of freedom with which the error of a run itself is known
    UNEQUAL = 0.01  # chance of equal spreads (Bartlett) below which there is a caution
