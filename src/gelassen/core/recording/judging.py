"""Which temperature a run is judged by, and over which reference its rise is taken."""

from typing import NamedTuple

import numpy as np
import pandas as pd

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.foundation.spelling import nearest
from gelassen.core.recording.channels import parse_channel
from gelassen.core.recording.chips import core_channels, whole_chips
from gelassen.core.recording.series import columns_of, highest_of, read_ones

HOTTEST_CORE = "hottest core"
MEAN_OF_CORES = "mean of cores"
_MEAN_CHANNEL = "cpu.mean.temp_c"


def choose_reference(frame: pd.DataFrame, name: str | None, *, named: bool) -> str | None:
    """Return the reference channel: the one named, else room air; None if there is none."""
    if name is not None and name in frame.columns:
        return name if read_ones(frame, [name]) else None
    if named:
        raise InputError(
            f'the reference "{name}" was not logged (there are: {", ".join(frame.columns)}).'
            + nearest(str(name), frame.columns)
        )
    rooms = [n for n in frame.columns if n.startswith("room.") and n.endswith("temp_c")]
    rooms = read_ones(frame, rooms)
    return rooms[0] if rooms else None


def is_coolant(reference: str | None) -> bool | None:
    """Return whether a reference is coolant, by its name; None if the name does not tell."""
    if reference is None:
        return None
    part = reference.partition(".")[0]
    return {"loop": True, "room": False}.get(part)


def with_mean_of_cores(frame: pd.DataFrame, channel: str | None) -> pd.DataFrame:
    """Return the table with the mean of all cores as a channel, if that is what is judged by."""
    cores = core_channels(frame)
    if channel not in (MEAN_OF_CORES, _MEAN_CHANNEL) or not cores or _MEAN_CHANNEL in frame.columns:
        return frame
    return frame.assign(**{_MEAN_CHANNEL: frame[cores].mean(axis=1)})


class Judged(NamedTuple):
    """The temperature a run is judged by: its channel (None without one) and how it was chosen."""

    channel: str | None
    how: str = ""
    named: bool = True  # whether `words` name the channel

    @property
    def kind(self) -> str:
        """What was measured. Runs that differ in it cannot be compared."""
        return self.how or self.channel or ""

    @property
    def words(self) -> str:
        """How it was chosen, and its channel."""
        if not self.how or not self.named:
            return self.kind
        return f"{self.how} ({self.channel})"


def choose_temperature(
    frame: pd.DataFrame, loaded: Bools, channel: str | None, over: str | None
) -> Judged:
    """Return the temperature to judge by."""
    cores = read_ones(frame, core_channels(frame))
    if channel == MEAN_OF_CORES:
        if not cores:
            raise InputError(f'no single cores were logged: there is no "{MEAN_OF_CORES}"')
        return Judged(_MEAN_CHANNEL, f"mean of {len(cores)} cores", False)
    if channel is not None and channel != HOTTEST_CORE:
        if channel not in frame.columns:
            raise InputError(
                f'"{channel}" was not logged (there are: {", ".join(frame.columns)}).'
                + nearest(channel, frame.columns)
            )
        if parse_channel(channel).unit != "c":
            raise InputError(f'"{channel}" is not a temperature')
        return Judged(channel)
    late = loaded & (np.cumsum(loaded) > loaded.sum() / 2)
    if cores:
        hottest = highest_of(frame, cores, late)
        return Judged(hottest, "hottest core")
    chips = whole_chips(frame, "cpu", "temp_c")
    if len(chips) > 1 and (read := read_ones(frame, chips)):
        return Judged(highest_of(frame, read, late), "hottest processor")
    if chips:
        return Judged(chips[0])
    parts = [n for n in frame.columns if n.endswith(".temp_c") and n != over]
    parts = [n for n in parts if not n.startswith(("room.", "case.")) and frame[n].notna().any()]
    if not parts:
        return Judged(None)
    hottest = highest_of(frame, parts, late)
    return Judged(hottest, "hottest reading")


def hottest_reading(frame: pd.DataFrame, temperature: Floats) -> Floats:
    """Return the hottest of all processor readings at each moment."""
    names = [*core_channels(frame), *whole_chips(frame, "cpu", "temp_c")]
    return np.fmax.reduce(columns_of(frame, names), axis=1) if names else temperature
