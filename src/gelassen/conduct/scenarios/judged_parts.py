"""A study with several judged parts: what cools the processor better warms the graphics card."""

from pathlib import Path

import numpy as np
import pandas as pd

from gelassen.conduct.scenarios.scenario import Scenario, head, setups
from gelassen.core.recording.recording import Origin, Recording
from gelassen.study.disk.archive import store_recording
from gelassen.study.disk.run_file import OriginEntry, PhaseEntry, RunFile
from gelassen.study.disk.writer import new_run_folder

_PARTS = ("cpu.package.temp_c", "gpu.hotspot.temp_c", "vrm.1.temp_c")
# Rises over the room in K: fans in front cool the graphics card, fans at the side the processor.
_RISES_K = {"front fans": (58.0, 61.0, 66.0), "side fans": (52.0, 64.0, 66.2)}
_SHARES, _TIMES_S = (0.5, 0.3, 0.2), (12.0, 90.0, 420.0)  # of a rise: die, cooler, case
_IDLE_S, _LOAD_S = 120, 1500
_SCATTER_K, _NOISE_K, _IDLE_SHARE = 0.25, 0.3, 0.15
_POWERS_W = {"cpu.package.power_w": 125.0, "gpu.board.power_w": 180.0}


def _fill(folder: Path, seed: int) -> None:
    rng = np.random.default_rng(seed)
    for _ in range(3):
        for setup in _RISES_K:
            frame = _frame(setup, rng)
            channels = {
                name: OriginEntry(
                    header="simulated", limit=110.0 if name == "vrm.1.temp_c" else None
                )
                for name in frame.columns
            }
            run = RunFile(
                outcome="finished", setup=setup, levels={"fans": setup}, limit_c=95.0, made_up=True,
                reference="room.air.temp_c", channels=channels,
                phases=[
                    PhaseEntry(name="idle", start_s=0.0, end_s=_IDLE_S),
                    PhaseEntry(name="soak", start_s=_IDLE_S, end_s=_IDLE_S + _LOAD_S),
                ],
            )  # fmt: skip
            recording = Recording(
                frame=frame, channels={name: Origin("simulated") for name in frame.columns}
            )
            store_recording(new_run_folder(folder / "runs", setup), recording, run)


def _frame(setup: str, rng: np.random.Generator) -> pd.DataFrame:
    """Return the readings of one run: each rise in three exponentials, in whole degrees."""
    times = np.arange(0.0, _IDLE_S + _LOAD_S, 2.0)
    loaded = np.clip(times - _IDLE_S, 0.0, None)
    course = sum(
        share * (1 - np.exp(-loaded / time_s))
        for share, time_s in zip(_SHARES, _TIMES_S, strict=True)
    )
    room = 22.3 + rng.normal(0, 0.3) + 0.3 * np.sin(times / 900)
    columns = {"room.air.temp_c": np.round(room + rng.normal(0, 0.05, times.size), 1)}
    for name, rise_k in zip(_PARTS, _RISES_K[setup], strict=True):
        rise_k += rng.normal(0, _SCATTER_K)
        values = room + rise_k * (_IDLE_SHARE + (1 - _IDLE_SHARE) * course)
        columns[name] = np.round(values + rng.normal(0, _NOISE_K, times.size))
    for name, power_w in _POWERS_W.items():
        watts = np.where(loaded > 0, power_w, 0.1 * power_w)
        columns[name] = np.round(watts * (1 + rng.normal(0, 0.004, times.size)), 1)
    columns["cpu.all.load_pct"] = np.where(loaded > 0, 100.0, 1.0)
    return pd.DataFrame(columns, index=pd.Index(times, name="t_s"))


PARTS = Scenario(
    about="several judged parts that disagree: processor, graphics card, regulator",
    study=head(
        "Fans in front or at the side", "Which place of the fans is better, and for which part?",
        'judge = ["cpu.package.temp_c", "gpu.hotspot.temp_c", "vrm.1.temp_c"]\nbaseline = "front fans"\n',
    )
    + setups("fans", *_RISES_K)
    + '\n[channels."vrm.1.temp_c"]\nlimit_c = 110\n[channels."gpu.hotspot.temp_c"]\nlimit_c = 100\n',
    fill=_fill,
    ask=((), ("--parts",)),
)  # fmt: skip
