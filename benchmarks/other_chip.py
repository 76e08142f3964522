"""A made-up chip of another kind: its governors, its power and its sensors follow other laws.

No constant of the package was chosen on it. Against `governed_chip`: several cores on a plate of
distributed heat, leakage that grows exponentially, a clock that falls in bins, governors with a control
loop or a holding time, a power limit that regulates with ripple, and a load whose power fluctuates.
"""

import numpy as np
from governed_chip import IDLE_S, Governed

_STEP_S = 0.25
_CORES = 4
CASES = (
    "free",
    "free, bins",
    "heat, loop",
    "heat, proportional",
    "heat, held for seconds",
    "power loop",
    "budget, then power loop",
    "budget, then power loop, then heat",
)


def other(seed: int) -> Governed:
    """Simulate one run of it."""
    rng = np.random.default_rng(10_000 + seed)
    case = str(rng.choice(CASES))
    load_s, tail_s = 60 * int(rng.choice([12, 18, 25])), int(rng.choice([0, 120]))
    size = IDLE_S + load_s + tail_s
    top_mhz, limit_c = rng.uniform(2800, 5000), float(rng.choice([80, 90, 100]))
    room = rng.uniform(17, 28)
    # The plate: a hot spot for each core, then ever larger bodies on the way to the room.
    to_next = np.array([0.03, 0.05, 0.08, 0.12]) * rng.uniform(0.7, 1.3)
    bodies = np.array([30.0, 90.0, 250.0, 700.0]) * rng.uniform(0.6, 1.5)
    spot_k_per_w = rng.uniform(0.05, 0.15, _CORES)
    spot_s = rng.uniform(0.5, 2.0)
    sustained_w = (limit_c - room) / (to_next.sum() + spot_k_per_w.max() / _CORES)
    ratio = {"free": (0.45, 0.9), "heat": (1.1, 1.6), "powe": (1.0, 1.5), "budg": (1.1, 1.6)}
    full_w = rng.uniform(*ratio[case[:4]]) * sustained_w
    limit_w = np.inf
    if "power" in case:
        share = rng.uniform(1.02, 1.12) if case.endswith("heat") else rng.uniform(0.5, 0.88)
        limit_w = min(share * sustained_w, 0.93 * full_w)
    budget_s = rng.uniform(10, 60) if case.startswith("budget") else 0.0
    leak_share, leak_k = rng.uniform(0.05, 0.2), rng.uniform(25, 45)
    v0 = rng.uniform(0.5, 0.65)  # share of the voltage that does not follow the clock
    bin_mhz, bin_k = (
        (25.0, rng.uniform(4, 9)) if "bins" in case or rng.random() < 0.3 else (0.0, 9.0)
    )
    wanders, fluctuates = 0.0, rng.choice([0.0, 0.005, 0.015])
    temperature, spots = room + 5 * np.arange(4, 0, -1) / 4, np.zeros(_CORES)
    cap, integral, hold_until, power_cap, spent = top_mhz, 0.0, -1.0, top_mhz, 0.0
    rows = []
    for tick in range(round(size / _STEP_S)):
        second = tick * _STEP_S
        loaded = IDLE_S <= second < IDLE_S + load_s
        hottest = temperature[0] + spots.max()
        heat = power = False
        clock, watts = 900.0, 6.0
        wanders += _STEP_S / 20 * -wanders + fluctuates * np.sqrt(2 * _STEP_S / 20) * rng.normal()
        if loaded:
            bins = np.floor(max(hottest - 55, 0) / bin_k)
            free = top_mhz - bin_mhz * bins
            over = hottest - (limit_c - 1.0)
            if "loop" in case:
                integral = np.clip(integral + _STEP_S * over * 0.004, 0, 0.6)
                cap = top_mhz * (1 - np.clip(integral + 0.01 * over, 0, 0.6))
            elif "proportional" in case:
                cap = top_mhz * (1 - np.clip(0.06 * (over + 1.5), 0, 0.6))
            elif "held" in case and second >= hold_until:
                cut = over > 0.5
                cap = top_mhz * (0.78 if cut else 1.0)
                hold_until = second + (7.0 if cut else 0.0)
            shape = (1 + wanders) * _drawn(1.0, hottest, v0, leak_share, leak_k)
            spent += _STEP_S * (full_w * shape - limit_w) if np.isfinite(limit_w) else 0.0
            if np.isfinite(limit_w) and second - IDLE_S >= budget_s:
                now_w = (
                    full_w
                    * (1 + wanders)
                    * _drawn(power_cap / top_mhz, hottest, v0, leak_share, leak_k)
                )
                power_cap *= (
                    1 - 0.25 * (now_w / limit_w - 1) + 0.004 * np.sin(second / 1.3) * _STEP_S
                )
                power_cap = min(power_cap, top_mhz)
            clock = min(free, cap, power_cap)
            heat = cap < 0.995 * min(free, power_cap)
            power = not heat and power_cap < 0.995 * free
            watts = (
                full_w * (1 + wanders) * _drawn(clock / top_mhz, hottest, v0, leak_share, leak_k)
            )
        flows = np.append(-np.diff(temperature), temperature[-1] - room) / to_next
        temperature = temperature + _STEP_S * (np.append(watts, flows[:-1]) - flows) / bodies
        spots += _STEP_S / spot_s * (watts / _CORES * spot_k_per_w - spots)
        rows.append((hottest, clock, watts, heat, power, loaded))
    table = np.array(rows, dtype=float).reshape(size, -1, 6).mean(axis=1)
    size = len(table)
    clock = np.round(table[:, 1] * (1 + rng.normal(0, rng.choice([0.001, 0.004]), size)))
    every = int(rng.choice([1, 1, 2, 4]))
    log = {
        "time_s": np.arange(float(size)),
        "temperature_c": np.round(table[:, 0] + rng.normal(0, 0.2, size)),
        "limit_c": limit_c,
        "clock_mhz": clock if rng.random() < 0.6 else np.round(clock / 50) * 50,
        "power_w": table[:, 2] * rng.uniform(0.99, 1.01) + rng.normal(0, 0.4, size),
        "load_pct": np.where(table[:, 5] > 0.5, 99.0, 2.0),
    }
    log = {name: part[::every] if np.ndim(part) else part for name, part in log.items()}
    held, limited = table[::every, 3] >= 0.5, table[::every, 4] >= 0.5
    return Governed(case, log, held, limited, float(limit_w), every)


def _drawn(share: float, hottest: float, v0: float, leak_share: float, leak_k: float) -> float:
    """Return the power at a share of the full clock, as a share of that at 70 °C."""
    voltage = v0 + (1 - v0) * share
    leak = leak_share * np.exp((min(hottest, 115.0) - 70) / leak_k) * voltage
    return float((1 - leak_share) * voltage**2 * share + leak)
