"""Machines whose fan is held to a temperature, and comes late: the part peaks, and falls again."""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.answers.workers.pool import process_pool
from gelassen.core import Recording, summarise_run

_IDLE_S, _STEP_S = 120, 0.25


@dataclass(frozen=True)
class Late:
    """One log, and where it settles."""

    frame: pd.DataFrame
    rise_k: float
    missing_k: float  # how far from there it was in its last minute


def late_fan(seed: int) -> Late:
    """Simulate a chip on fins; its fan runs so that the chip comes to a temperature, if it can."""
    rng = np.random.default_rng(seed)
    u = rng.uniform
    room, load_w, across = u(18, 28), u(60, 250), u(0.05, 0.15)
    chip_j, fins_j, slowest_fan = u(10, 30) + 0.6 / across, u(200, 1200), u(0.2, 0.4)
    full_w_per_k, power_of_fan, leak = load_w / u(15, 40), u(0.5, 0.8), u(0, 0.004)
    target = u(55, 80)
    gain = u(0.01, 0.06)  # share of full speed a kelvin, and the same again in so many seconds
    again_s = np.exp(u(np.log(20), np.log(300)))
    most, seen_s = rng.choice([0.005, 0.02, 0.1]), rng.choice([1, 5, 15])
    wander, fade = rng.choice([0, 0.004, 0.01]), np.exp(-_STEP_S / 20)

    size = int((_IDLE_S + 60 * rng.choice([10, 15, 20, 30])) / _STEP_S)
    fins = room + 0.1 * load_w / (full_w_per_k * slowest_fan**power_of_fan)
    chip = seen = fins + 0.1 * load_w * across
    fan, kept, wave = slowest_fan, 0.0, 0.0
    course = np.empty((size, 3))
    for k in range(size):
        wave = fade * wave + wander * np.sqrt(1 - fade**2) * rng.standard_normal()
        watts = load_w * (0.1 if k * _STEP_S < _IDLE_S else 1 + wave) * (1 + leak * (chip - 55))
        through = (chip - fins) / across
        chip += _STEP_S / chip_j * (watts - through)
        out = (fins - room) * full_w_per_k * fan**power_of_fan
        fins += _STEP_S / fins_j * (through - out)
        seen += (chip - seen) * _STEP_S / seen_s
        above = seen - target
        asked = slowest_fan + gain * above + kept
        if slowest_fan <= asked <= 1 or (asked < slowest_fan) == (above > 0):
            kept = float(np.clip(kept + gain * above * _STEP_S / again_s, 0, 1))
        fan += np.clip(np.clip(asked, slowest_fan, 1) - fan, -most * _STEP_S, most * _STEP_S)
        course[k] = chip, watts, fan

    def settles(at: float) -> float:
        resistance, warm = 1 / (full_w_per_k * at**power_of_fan) + across, target
        for _ in range(100):
            warm = room + load_w * (1 + leak * (warm - 55)) * resistance
        return warm

    settled = float(np.clip(target, settles(1.0), settles(slowest_fan)))
    every = int(rng.choice([1, 1, 2]) / _STEP_S)
    read, step = course[::every], rng.choice([0.1, 0.5, 1.0])
    noise = rng.normal(0, rng.choice([0.05, 0.2, 0.4]), len(read))
    frame = pd.DataFrame(
        {
            "cpu.package.temp_c": np.round((read[:, 0] + noise) / step) * step,
            "room.air.temp_c": np.round(room + rng.normal(0, 0.05, len(read)), 1),
            "cpu.package.power_w": np.round(read[:, 1], 1),
            "fan.cpu.speed_rpm": np.round(1800 * read[:, 2], -1),
        },
        index=pd.Index(np.arange(0, size, every) * _STEP_S, name="t_s"),
    )
    last = course[-int(60 / _STEP_S) :, 0]
    return Late(frame, settled - room, float(last.mean()) - settled)


def _answered(seed: int) -> dict[str, object]:
    run = late_fan(seed)
    answer = summarise_run(Recording(frame=run.frame)).steady
    assert answer is not None
    rise = run.frame["cpu.package.temp_c"] - run.frame["room.air.temp_c"]
    smooth = rise.rolling(31, center=True).median()
    fell = float(smooth.max() - smooth.dropna().iloc[-30:].mean())
    habit = float(rise[rise.index > rise.index[-1] - 600].mean())
    return {
        "settled": abs(run.missing_k) <= 0.5,
        "peaked": fell > max(1.0, 0.03 * run.rise_k),
        "error": answer.value - run.rise_k,
        "covered": answer.low <= run.rise_k <= answer.high,
        "width": answer.high - answer.low,
        "habit": habit - run.rise_k,
    }


def late_fans_table(seeds: int) -> None:
    """Print how well it is told where machines settle whose fan comes late."""
    print("\n### Fans that are held to a temperature\n")
    print(
        "| runs | how many | median error K | covers | median width K | ten-minute mean: median error K |"
    )
    print("|:---|" + "---:|" * 5)
    with process_pool() as pool:
        table = pd.DataFrame(pool.map(_answered, range(seeds), chunksize=4))
    settled, peaked = table["settled"], table["peaked"]
    for name, rows in (
        ("settled, peaked before", settled & peaked),
        ("settled, did not peak", settled & ~peaked),
        ("still falling, or swinging", ~settled & peaked),
        ("fan has hardly begun", ~settled & ~peaked),
    ):
        part = table[rows]
        print(
            f"| {name} | {len(part)} | {part['error'].abs().median():.2f} | "
            f"{100 * part['covered'].mean():.0f} % | {part['width'].median():.2f} | "
            f"{part['habit'].abs().median():.2f} |"
        )
