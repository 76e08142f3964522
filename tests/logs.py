"""Logs with known truth, from a thermal model of its own: a chain of three bodies, solved exactly."""

from dataclasses import dataclass

import numpy as np
from scipy.linalg import expm

# Heat capacities in J/K and resistances in K/W of chip, base and fins.
KINDS = {
    "tower": ((25.0, 90.0, 500.0), (0.10, 0.06, 0.28)),
    "liquid": ((25.0, 150.0, 4500.0), (0.10, 0.08, 0.16)),
    "passive": ((20.0, 200.0, 700.0), (0.20, 0.10, 0.90)),
}


@dataclass(frozen=True)
class Log:
    time_s: np.ndarray
    temperature_c: np.ndarray
    room_c: np.ndarray
    power_w: np.ndarray
    rise_k: float  # the truth
    load_start_s: float
    coolant_c: np.ndarray  # temperature of the fins, or the coolant, in whole degrees
    over_coolant_k: float  # the true rise over it


def heating_log(
    kind: str,
    seed: int,
    *,
    minutes: float = 30,
    step_k: float = 1.0,
    drift_k: float = 1.0,
    step_up_at_s: float | None = None,
) -> Log:
    """Two idle minutes, then a load, with a boost, a drifting room, and coarse, noisy sensors.

    From `step_up_at_s` on, power is 5 % higher; the truth is that of the mean power under load.
    """
    rng = np.random.default_rng(seed)
    capacity, resistance = (np.array(part) for part in KINDS[kind])
    idle_w, load_w = (4.0, 35.0) if kind == "passive" else (8.0, 95.0)
    idle, size = 120, int(120 + 60 * minutes)
    seconds = np.arange(size)
    wave = seconds / rng.uniform(2400, 7200) + rng.random()
    room = 22 + drift_k * np.sin(2 * np.pi * wave)
    power = np.where(seconds < idle, idle_w, load_w)
    power[idle : idle + 28] *= 1.3
    if step_up_at_s is not None:
        power[seconds >= step_up_at_s] *= 1.05
    g = 1 / resistance
    flow = np.array([[-g[0], g[0], 0], [g[0], -g[0] - g[1], g[1]], [0, g[1], -g[1] - g[2]]])
    block = np.zeros((5, 5))
    block[:3, :3] = flow / capacity[:, None]
    block[0, 3], block[2, 4] = 1 / capacity[0], g[2] / capacity[2]
    exact = expm(block)
    state = room[0] + idle_w * resistance[::-1].cumsum()[::-1]
    chip, coolant = np.empty(size), np.empty(size)
    noise = np.zeros(size)
    for k in range(size):
        state = exact[:3, :3] @ state + exact[:3, 3:] @ [power[k], room[k]]
        chip[k], coolant[k] = state[0], state[2]
        noise[k] = 0.8 * noise[k - 1] + 0.2 * rng.standard_normal()
    return Log(
        time_s=seconds + rng.normal(0, 0.005, size),
        temperature_c=np.round((chip + noise) / step_k) * step_k,
        room_c=np.round((room + rng.normal(0, 0.05, size)) * 8) / 8,
        power_w=np.round(power * (1 + 0.004 * rng.standard_normal(size)) * 8) / 8,
        rise_k=float(resistance.sum() * power[idle + 28 :].mean()),
        load_start_s=float(idle),
        coolant_c=np.round(coolant),
        over_coolant_k=float(resistance[:2].sum() * power[idle + 28 :].mean()),
    )
