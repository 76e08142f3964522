"""A made-up chip that heat, a power limit, both or nothing holds back, with the truth at each second."""

from dataclasses import dataclass
from typing import Any

import numpy as np

IDLE_S = 120
_STEP_S = 0.2
CASES = (
    "free",
    "free, loses much boost",
    "heat",
    "loses much boost, then heat",
    "heat, cut and given back",
    "heat, steps of the clock",
    "heat, cut for seconds",
    "heat, slow steps",
    "power",
    "boost, then power",
    "averaged power",
    "power, then heat",
)


@dataclass(frozen=True)
class Governed:
    """One log, what really held the chip back, and the power limit it had."""

    case: str
    log: dict[str, Any]
    by_heat: np.ndarray
    by_power: np.ndarray
    power_limit_w: float
    every_s: int  # how far apart the readings are


def governed(seed: int) -> Governed:
    """Simulate one run of a chip whose clock follows the lowest of boost, power and heat."""
    rng = np.random.default_rng(seed)
    load_s, tail_s = 60 * int(rng.choice([10, 20, 30])), int(rng.choice([0, 180]))
    case = str(rng.choice(CASES))
    top_mhz = rng.uniform(3500, 5200)
    sag = rng.choice([0, 0, 0.5, 1, 2])  # MHz lost a kelvin, by nothing but warmth
    if "loses much boost" in case:
        sag = rng.uniform(2, 7)
    limit_c = float(rng.choice([85, 95, 100, 105]))
    resistance, capacity = (0.12, 0.06, 0.28), np.array([20.0, 100.0, 450.0])
    room = rng.uniform(18, 27)
    steep = rng.uniform(2.0, 2.8)  # power grows with this power of the clock
    leak = rng.choice([0.001, 0.002, 0.004])
    at_limit_w = (limit_c - room) / sum(resistance)
    wanted = {"free": (0.4, 0.97), "heat": (1.02, 1.6), "power": (0.9, 1.4)}
    wanted |= {"boost, then power": (1.1, 1.6), "power, then heat": (1.3, 1.8)}
    wanted |= {"heat, cut and given back": (1.1, 1.5), "heat, steps of the clock": (1.1, 1.5)}
    wanted |= {"averaged power": (1.1, 1.6)}
    wanted |= {"free, loses much boost": (0.4, 0.97), "loses much boost, then heat": (1.15, 1.7)}
    wanted |= {"heat, cut for seconds": (1.1, 1.5), "heat, slow steps": (1.1, 1.5)}
    if case == "heat, cut for seconds":
        capacity[0] = 8.0
    below_k = rng.uniform(0.2, 1.5)  # so much below the limit some governors act
    full_w = rng.uniform(*wanted[case]) * at_limit_w
    limit_w, boost_s = np.inf, 0
    if case == "power":
        limit_w = rng.uniform(0.55, 0.9) * min(full_w, at_limit_w)
    elif case == "boost, then power":
        limit_w, boost_s = rng.uniform(0.5, 0.92) * at_limit_w, int(rng.choice([28, 56, 100]))
    elif case == "averaged power":
        limit_w = rng.uniform(0.5, 0.9) * at_limit_w
    elif case == "power, then heat":
        limit_w, boost_s = rng.uniform(1.02, 1.15) * at_limit_w, int(rng.choice([28, 56, 100]))
    limit_w = min(limit_w, 0.96 * full_w) if np.isfinite(limit_w) else limit_w
    chip = room + 8 * np.array([sum(resistance), sum(resistance[1:]), resistance[2]])
    cap, rows = top_mhz, []
    cut_to, cooler_k, averaged_s = rng.uniform(0.6, 0.85), rng.uniform(3, 10), rng.choice([28, 56])
    averaged_w, boosts, cut = 8.0, case == "averaged power", False
    for second in range(IDLE_S + load_s + tail_s):
        loaded = IDLE_S <= second < IDLE_S + load_s
        heat = power = False
        for beat in range(round(1 / _STEP_S)):
            clock, watts = 800.0, 8.0
            if loaded:
                warm = 1 + leak * (chip[0] - 70)
                free = top_mhz - sag * max(chip[0] - 50, 0)
                averaged_w += _STEP_S / averaged_s * (full_w * warm - averaged_w)
                boosts &= averaged_w < limit_w
                allowed = limit_w if second - IDLE_S >= boost_s and not boosts else np.inf
                by_power = min(free, top_mhz * (allowed / (full_w * warm)) ** (1 / steep))
                if case == "heat, cut and given back":
                    cut = chip[0] > limit_c or (cut and chip[0] > limit_c - cooler_k)
                    cap = cut_to * top_mhz if cut else top_mhz
                elif case == "heat, steps of the clock":
                    if beat == 0:
                        up, down = (
                            second % 5 == 0 and chip[0] < limit_c - 2,
                            chip[0] > limit_c - 0.5,
                        )
                        cap = np.clip(cap + 100 * (int(up) - int(down)), 0.3 * top_mhz, top_mhz)
                elif case == "heat, cut for seconds":
                    back_k = below_k + (cooler_k if cut else 0.0)
                    cut = chip[0] > limit_c - back_k
                    cap = cut_to * top_mhz if cut else top_mhz
                elif case == "heat, slow steps":
                    if beat == 0:
                        up = second % 5 == 0 and chip[0] < limit_c - below_k - 2
                        down = chip[0] > limit_c - below_k
                        cap = np.clip(cap + 100 * (int(up) - int(down)), 0.3 * top_mhz, top_mhz)
                else:
                    cap += (limit_c - 0.7 - chip[0]) * top_mhz * 1e-3
                    cap = np.clip(cap, 0.3 * top_mhz, top_mhz)
                clock = min(by_power, cap, free)
                heat = cap < 0.995 * min(by_power, free)
                power = by_power < 0.995 * free and not heat
                watts = full_w * (clock / top_mhz) ** steep * warm
            else:
                cap = top_mhz
            flows = np.append(-np.diff(chip), chip[2] - room) / resistance
            chip = chip + _STEP_S * (np.append(watts, flows[:2]) - flows) / capacity
        rows.append((chip[0], clock, watts, heat, power))
    table = np.array(rows, dtype=float)
    size, digit = len(table), float(rng.choice([1.0, 0.5, 0.1]))
    clock = table[:, 1] * (1 + rng.normal(0, rng.choice([0.001, 0.003, 0.008]), size))
    steps_mhz = float(rng.choice([1, 1, 25, 100]))  # some logs round it
    log = {
        "time_s": np.arange(float(size)),
        "temperature_c": np.round((table[:, 0] + rng.normal(0, 0.3, size)) / digit) * digit,
        "limit_c": limit_c,
        "clock_mhz": np.round(clock / steps_mhz) * steps_mhz,
        "power_w": table[:, 2] * (1 + rng.normal(0, rng.choice([0.003, 0.01]), size)),
        "load_pct": np.where(
            (np.arange(size) >= IDLE_S) & (np.arange(size) < IDLE_S + load_s), 100.0, 1.0
        ),
    }
    every = int(rng.choice([1, 1, 2, 5]))
    log = {name: part[::every] if np.ndim(part) else part for name, part in log.items()}
    by_heat, by_power = table[::every, 3] > 0, table[::every, 4] > 0
    return Governed(case, log, by_heat, by_power, float(limit_w), every)
