"""Offsets of probes that lay together in one place, with intervals."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.distributions import t_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats, SeriesLike, as_confidence, as_series
from gelassen.core.foundation.result import Result
from gelassen.core.probing.thresholds import Offsets
from gelassen.core.signal.noise import quantisation_error


@dataclass(frozen=True, slots=True, kw_only=True)
class ProbeOffset(Result):
    """What is to be added to a probe's readings, in K, with its interval.

    The interval holds for this place and temperature: a probe may be wrong by another amount elsewhere.
    """

    channel: str
    offset_k: float
    low_k: float
    high_k: float
    standard_error_k: float
    cautions: tuple[Caution, ...] = ()

    def __str__(self) -> str:
        return f"{self.channel}: {self.offset_k:+.2f} K ({self.low_k:+.2f} to {self.high_k:+.2f})"


def probe_offsets(
    readings_c: Mapping[str, SeriesLike], *, true: str | None = None, confidence: float = 0.95
) -> tuple[ProbeOffset, ...]:
    """Compare probes that lay together.

    Parameters
    ----------
    readings_c : mapping of str to array_like, shape (n,)
        By channel: temperatures of the same moments, in °C and in order of time; NaN marks a
        missed reading.
    true : str, optional
        The trusted probe. Without one, the mean of all is the reference.
    confidence : float
        Share of such intervals that should cover the offset.

    Raises
    ------
    InputError
        Fewer than two probes, unequal lengths, too few readings in common, an unknown `true`.

    Notes
    -----
    Temperatures common to all cancel in the difference to the reference; its block means [1]_ give
    the standard error, joined to what the sensors' steps hide [2]_.

    References
    ----------
    .. [1] H. Flyvbjerg and H. G. Petersen, J. Chem. Phys. 91, 461 (1989).
    .. [2] JCGM 100:2008 (GUM), F.2.2.1.
    """
    if len(readings_c) < 2:
        raise InputError("offsets need at least two probes that lay together")
    if true is not None and true not in readings_c:
        raise InputError(f'"{true}" is none of the probes ({", ".join(readings_c)})')
    confidence = as_confidence(confidence)
    series = {name: as_series(name, values) for name, values in readings_c.items()}
    if len({values.shape for values in series.values()}) > 1:
        raise InputError("the probes have different numbers of readings; pass those of one run")
    table = np.vstack(list(series.values()))
    table = table[:, np.isfinite(table).all(axis=0)]
    if table.shape[1] < Offsets.LEAST:
        raise InputError(
            f"the probes have {counted(table.shape[1], 'reading')} in common; {Offsets.LEAST} are "
            "needed: let them lie together for longer"
        )
    truth = table[list(series).index(true)] if true is not None else table.mean(axis=0)
    hidden = [quantisation_error(row) for row in table]
    shared = 0.0 if true is not None else math.hypot(*hidden) / len(hidden)
    return tuple(
        _offset(
            name,
            truth - row,
            math.hypot(own, hidden[list(series).index(true)] if true is not None else shared),
            confidence,
        )
        if name != true
        else ProbeOffset(channel=name, offset_k=0, low_k=0, high_k=0, standard_error_k=0)
        for name, row, own in zip(series, table, hidden, strict=True)
    )


def _offset(name: str, difference: Floats, hidden_k: float, confidence: float) -> ProbeOffset:
    means = np.array([block.mean() for block in np.array_split(difference, Offsets.BLOCKS)])
    scatter = float(means.std(ddof=1)) / math.sqrt(Offsets.BLOCKS)
    error = math.hypot(scatter, hidden_k)
    # The error hidden by steps is uniform: 1.73 standard deviations hold all of it.
    half = math.hypot(
        float(t_quantile((1 + confidence) / 2, Offsets.BLOCKS - 1)) * scatter,
        math.sqrt(3) * confidence * hidden_k,
    )
    offset = float(difference.mean())
    slope = np.polyfit(np.arange(Offsets.BLOCKS), means, 1)[0] * Offsets.BLOCKS
    left = means - np.polyval(
        np.polyfit(np.arange(Offsets.BLOCKS), means, 1),
        np.arange(Offsets.BLOCKS),
    )
    cautions: tuple[Caution, ...] = ()
    if abs(slope) > max(Offsets.MOVED_K, Offsets.MOVED_SIGMAS * float(left.std(ddof=2))):
        cautions = (caution("probe_moved", channel=name, moved_k=float(slope)),)
    return ProbeOffset(
        channel=name,
        offset_k=offset,
        low_k=offset - half,
        high_k=offset + half,
        standard_error_k=error,
        cautions=cautions,
    )
