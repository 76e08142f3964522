"""Made-up machines of distributed bodies in rooms that are lived in: of other physics than the analysis.

A chip feeds heat pipes, which carry less in the cold and dry out under much heat. They feed a stack of
fins of eight parts along the air. Its air fills a cabinet, whose walls are four layers thick. The room has
heating that cycles, and doors. Loads are constant, irregular (as games are) or periodic (as encodes are).
Fans are fixed or go in steps, with hysteresis. Sensors are coarse, and the room's sensor is slow.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

STEP_S, IDLE_S = 0.25, 120
END_S = 4 * 3600  # s until the end state, with walls that are made light for it
FINS, WALLS = 8, 4
LIGHT = 8.0  # times lighter walls, to come to the end state
Arrays = dict[str, Any]


@dataclass(frozen=True)
class Log:
    """One log and its truth."""

    time_s: np.ndarray
    temperature_c: np.ndarray
    room_c: np.ndarray
    power_w: np.ndarray | None
    rise_k: float  # mean rise in the end state: the load of the log comes again and again, in whole turns
    load: str
    cooled_by: str
    in_cabinet: bool
    minutes: float


def _between(rng: np.random.Generator, low: float, high: float, count: int) -> np.ndarray:
    return np.exp(rng.uniform(np.log(low), np.log(high), count))


def _machines(rng: np.random.Generator, count: int) -> Arrays:
    """Draw machines, rooms, loads and sensors."""
    kind = rng.choice(["fixed fan", "stepped fan", "passive"], count, p=[0.4, 0.35, 0.25])
    passive, cabinet = kind == "passive", rng.random(count) < 0.35
    return {
        "kind": kind,
        "passive": passive,
        "cabinet": cabinet,
        "load": rng.choice(["constant", "irregular", "periodic"], count, p=[0.5, 0.3, 0.2]),
        "minutes": rng.choice([15.0, 20.0, 30.0, 45.0], count),
        "chip_j": _between(rng, 10, 30, count),
        "spread_j": _between(rng, 40, 200, count),
        "fins_j": np.where(
            passive, _between(rng, 500, 2500, count), _between(rng, 200, 1000, count)
        ),
        "chip_w": _between(rng, 4, 12, count),
        "pipe_w": _between(rng, 10, 40, count),
        "cold_c": rng.uniform(20, 40, count),
        "dry_w": rng.uniform(1.3, 3.0, count),
        "air_w": np.where(passive, _between(rng, 0.7, 1.8, count), _between(rng, 4, 10, count)),
        "stream_w": np.where(passive, _between(rng, 3, 8, count), _between(rng, 8, 30, count)),
        "level_w": np.where(passive, _between(rng, 12, 45, count), _between(rng, 50, 180, count)),
        "box_j": _between(rng, 100, 600, count),
        "box_w": _between(rng, 6, 25, count),
        "wall_j": _between(rng, 2000, 15000, count),
        "wall_w": _between(rng, 8, 30, count),
        "leak": rng.choice([0.0, 0.002, 0.005], count),
        "steps_c": rng.uniform(35, 55, count),
        "room_c": rng.uniform(18, 28, count),
        "heating_k": rng.choice([0.0, 0.4, 1.0], count, p=[0.4, 0.35, 0.25]),
        "heating_s": _between(rng, 600, 2400, count),
        "phase": rng.random(count),
        "door_s": np.where(rng.random(count) < 0.3, rng.uniform(300, 2400, count), np.inf),
        "door_k": rng.uniform(-2.5, -0.8, count),
        "digit": rng.choice([0.0, 0.125, 0.5, 1.0], count),
        "noise": _between(rng, 0.03, 0.5, count),
        "room_digit": rng.choice([0.01, 0.1, 0.5], count),
        "room_lag_s": _between(rng, 20, 200, count),
        "interval": rng.choice([1.0, 2.0, 5.0], count, p=[0.6, 0.2, 0.2]),
        "power_logged": rng.random(count) < 0.7,
    }


def _load(rng: np.random.Generator, kind: str, seconds: int) -> tuple[np.ndarray, int]:
    """Return the load of each second, as a share of its level, and after how many it comes again."""
    if kind == "constant":
        return np.full(seconds, 1.0) + 0.004 * rng.standard_normal(seconds), seconds
    if kind == "periodic":
        period, duty = int(rng.uniform(20, 240)), rng.uniform(0.4, 0.85)
        on = (np.arange(seconds) % period) < duty * period
        return np.where(on, 1.0, rng.uniform(0.15, 0.5)), seconds // period * period
    scene, at = np.empty(seconds), 0
    while at < seconds:  # scenes of a game, some short, some long, with menus between them
        length = int(rng.exponential(90)) + 5
        scene[at : at + length] = rng.uniform(0.55, 1.0) if rng.random() > 0.12 else 0.25
        at += length
    jitter = np.convolve(rng.standard_normal(seconds + 9), np.ones(10) / 10, "valid")
    return np.asarray((scene + 0.15 * jitter).clip(0.1, 1.2)), seconds


class _State:
    """Temperatures of all machines."""

    def __init__(self, m: Arrays) -> None:
        start = m["room_c"]
        self.m, count = m, start.size
        self.chip, self.spread, self.box = start.copy(), start.copy(), start.copy()
        self.fins = np.repeat(start[None], FINS, axis=0)
        self.walls = np.repeat(start[None], WALLS, axis=0)
        self.seen, self.duty = start.copy(), np.full(count, 0.4)

    def step(self, watts: np.ndarray, room: np.ndarray, lighter: float = 1.0) -> None:
        m, dt = self.m, STEP_S
        drawn = watts * (1 + m["leak"] * (self.chip - 60))
        # Heat pipes carry less below a temperature, and dry out above a power.
        flow = m["chip_w"] * (self.chip - self.spread)
        works = 0.35 + 0.65 / (1 + np.exp(-(self.spread - m["cold_c"]) / 4))
        dry = 1 / (1 + np.clip(flow / (m["dry_w"] * m["level_w"]) - 0.9, 0, None) * 3)
        carried = m["pipe_w"] * works * dry * (self.spread - self.fins.mean(axis=0))
        # The fan: steps of its duty, down only after 4 K.
        self.seen += (self.chip - self.seen) * dt / 8
        for step, duty in ((0, 0.55), (12, 0.75), (24, 1.0)):
            up = self.seen > m["steps_c"] + step
            self.duty = np.where(up & (self.duty < duty), duty, self.duty)
        for step, duty in ((24, 0.75), (12, 0.55), (0, 0.4)):
            down = self.seen < m["steps_c"] + step - 4
            self.duty = np.where(down & (self.duty > duty), duty, self.duty)
        rpm = np.where(m["kind"] == "stepped fan", self.duty, 0.6)
        # Air warms along the fins; without a fan it moves the faster, the warmer the fins.
        over = np.maximum(self.fins.mean(axis=0) - self.box, 0.3)
        moved = np.where(m["passive"], (over / 30) ** 0.3, (rpm / 0.6) ** 0.7)
        stream = m["stream_w"] * moved
        each = m["air_w"] * np.where(m["passive"], moved, (rpm / 0.6) ** 0.6) / FINS
        radiated = np.where(m["passive"], 0.25 * m["air_w"] / FINS, 0.0)
        air, lost = self.box.copy(), np.empty_like(self.fins)
        for k in range(FINS):
            heat = each * (self.fins[k] - air)
            lost[k] = heat + radiated * ((self.fins[k] + 273) / 320) ** 3 * (
                self.fins[k] - self.box
            )
            air = air + heat / stream
        along = np.diff(self.fins, axis=0) * 6.0
        flows = carried / FINS - lost
        flows[:-1] += along
        flows[1:] -= along
        self.chip = self.chip + dt * (drawn - flow) / m["chip_j"]
        self.spread = self.spread + dt * (flow - carried) / m["spread_j"]
        self.fins = self.fins + dt * flows * FINS / m["fins_j"]
        out = m["box_w"] * (self.box - room)
        into = m["wall_w"] * (self.box - self.walls[0])
        box = self.box + dt * (lost.sum(axis=0) - out - into) / m["box_j"]
        through = 2 * m["wall_w"] * -np.diff(self.walls, axis=0)
        walls = np.zeros_like(self.walls)
        walls[0] += into
        walls[:-1] -= through
        walls[1:] += through
        walls[-1] -= m["wall_w"] * (self.walls[-1] - room)
        self.walls = self.walls + dt * walls * WALLS * lighter / m["wall_j"]
        self.box = np.where(m["cabinet"], box, room)


def _rooms(m: Arrays, seconds: int) -> np.ndarray:
    """Return the room of each second: heating switches on and off, a door opens for three minutes."""
    t = np.arange(seconds)[:, None]
    turn = (t / m["heating_s"] + m["phase"]) % 1
    heating = np.where(turn < 0.35, turn / 0.35, (1 - turn) / 0.65) - 0.5
    since = np.clip(t - m["door_s"], -1.0, None)
    door = np.where(since > 0, m["door_k"] * (np.exp(-since / 400) - np.exp(-since / 60)), 0.0)
    return np.asarray(m["room_c"] + m["heating_k"] * heating + door)


def _filtered(series: np.ndarray, lag_s: float) -> np.ndarray:
    out, at = np.empty_like(series), series[0]
    for k, value in enumerate(series):
        at += (value - at) / lag_s
        out[k] = at
    return out


def logs(seed: int, count: int) -> list[Log]:
    """Return logs of so many machines."""
    rng = np.random.default_rng([seed, 33])
    m = _machines(rng, count)
    lengths = (60 * m["minutes"]).astype(int)
    longest = IDLE_S + int(lengths.max())
    drawn = [_load(rng, kind, int(n)) for kind, n in zip(m["load"], lengths, strict=True)]
    loads, turns = [load for load, _ in drawn], np.array([turn for _, turn in drawn])
    idle = 0.12
    share = np.full((longest, count), idle)
    for k, load in enumerate(loads):
        share[IDLE_S : IDLE_S + load.size, k] = load
    room = _rooms(m, longest)
    state, chip, fine = _State(m), np.empty((longest, count)), round(1 / STEP_S)
    for _ in range(3600 * fine // 4):  # a quarter of an hour at rest
        state.step(idle * m["level_w"], room[0], LIGHT)
    for second in range(longest):
        for _ in range(fine):
            state.step(share[second] * m["level_w"], room[second])
        chip[second] = state.chip
    ends = _ends(m, state, loads, room, turns)
    return [
        _log(rng, m, k, chip[: IDLE_S + lengths[k], k], room[: IDLE_S + lengths[k], k],
             share[: IDLE_S + lengths[k], k] * m["level_w"][k], float(ends[k]))
        for k in range(count)
    ]  # fmt: skip


def _ends(
    m: Arrays, state: _State, loads: list[np.ndarray], room: np.ndarray, turns: np.ndarray
) -> np.ndarray:
    """Return the mean rise in the end state: the load is repeated for hours in the mean room."""
    count = len(loads)
    still = np.array([room[IDLE_S : IDLE_S + load.size, k].mean() for k, load in enumerate(loads)])
    table = np.zeros((int(turns.max()), count))
    for k, load in enumerate(loads):
        table[: turns[k], k] = load[: turns[k]]
    from_s = END_S - turns * np.maximum(1, 3600 // turns)  # the last whole repeats
    total, every, fine = np.zeros(count), np.arange(count), round(1 / STEP_S)
    for second in range(END_S):
        watts = table[second % turns, every] * m["level_w"]
        for _ in range(fine):
            state.step(watts, still, LIGHT)
        total += np.where(second >= from_s, state.chip, 0.0)
    return np.asarray(total / (END_S - from_s) - still)


def _log(
    rng: np.random.Generator, m: Arrays, k: int, chip: np.ndarray, room: np.ndarray,
    watts: np.ndarray, rise_k: float,
) -> Log:  # fmt: skip
    every = int(m["interval"][k])
    noise = np.convolve(rng.standard_normal(chip.size + 3), np.ones(4) / 4, "valid")
    read = chip + m["noise"][k] * noise
    if m["digit"][k]:
        read = np.round(read / m["digit"][k]) * m["digit"][k]
    slow = _filtered(room, m["room_lag_s"][k]) + 0.03 * rng.standard_normal(room.size)
    slow = np.round(slow / m["room_digit"][k]) * m["room_digit"][k]
    drawn = watts * (1 + m["leak"][k] * (chip - 60)) + 0.5 * rng.standard_normal(chip.size)
    use = slice(None, None, every)
    return Log(
        time_s=np.arange(chip.size, dtype=float)[use],
        temperature_c=read[use],
        room_c=slow[use],
        power_w=np.round(drawn[use], 1) if m["power_logged"][k] else None,
        rise_k=rise_k,
        load=str(m["load"][k]),
        cooled_by=str(m["kind"][k]),
        in_cabinet=bool(m["cabinet"][k]),
        minutes=float(m["minutes"][k]),
    )


@dataclass(frozen=True)
class Capacities:
    """Steady rises of one machine at some powers in a room of 25 °C, and its capacity below 95 °C."""

    cooled_by: str
    power_w: np.ndarray
    rise_k: np.ndarray
    rpm: np.ndarray
    capacity_w: float


def capacities(seed: int, count: int) -> list[Capacities]:
    """Return four levels each, from a quarter of the capacity to 50 to 95 % of it."""
    rng = np.random.default_rng([seed, 34])
    m = _machines(rng, count)
    m["room_c"] = np.full(count, 25.0)
    quick = {"fins_j": 300.0, "wall_j": 1000.0, "box_j": 100.0}
    m |= {name: np.full(count, value) for name, value in quick.items()}

    def settled(watts: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        state = _State(m)
        for _ in range(round(2400 / STEP_S)):
            state.step(watts, m["room_c"])
            state.chip = np.minimum(state.chip, 400.0)  # beyond this, heat runs away
        drawn = watts * (1 + m["leak"] * (state.chip - 60))
        return drawn, state.chip - m["room_c"], np.where(m["passive"], 0.0, state.duty)

    low, high = np.full(count, 2.0), np.full(count, 900.0)
    for _ in range(11):
        middle = np.sqrt(low * high)
        below = settled(middle)[1] < 70.0
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    truth = settled(low)[0]
    top = rng.uniform(0.5, 0.95, count)
    rows = [settled(low * share * top) for share in (0.4, 0.6, 0.8, 1.0)]
    return [
        Capacities(
            str(m["kind"][k]),
            np.array([row[0][k] for row in rows]),
            np.array([row[1][k] for row in rows]) + rng.normal(0, 0.3, 4),
            np.array([row[2][k] for row in rows]),
            float(truth[k]),
        )
        for k in range(count)
    ]
