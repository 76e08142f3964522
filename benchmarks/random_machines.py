"""Made-up machines of many kinds, with known truth: not the simulated bench, and wider than it.

A chain chip, base, fins (or coolant), case air, room, stepped for many machines at once. Fins that cool
by free convection and radiation, fans fixed or on curves that follow chip or coolant, boards that soak
up heat beside the cooler, leakage, boosts, power that wanders, starts that are still warm, rooms that
drift, sensors that are coarse and noisy.
Constants are drawn from wide ranges; the analysis knows none of them.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

STEP_S, IDLE_S, LONGEST_MIN = 0.5, 120, 45
Arrays = dict[str, Any]


@dataclass(frozen=True)
class Run:
    """One log and its truth."""

    time_s: np.ndarray
    temperature_c: np.ndarray
    room_c: np.ndarray
    power_w: np.ndarray
    rise_k: float  # where it would settle in the mean room at the mean power
    coolant_c: np.ndarray  # temperature of the fins; of a liquid loop, that of the coolant
    over_coolant_k: float  # where the rise over it would settle at the mean power
    missing_k: float  # how far it was from there when the log ended, room and power standing still
    change_s: float  # when the power was changed in mid-run; infinite if it was not
    change_k: float  # by how much that moved the steady rise
    slow_s: float  # time constant of the slowest body on the way from the chip to the room
    kind: str
    on_curve: bool
    warm: bool
    wander: float


def machines(rng: np.random.Generator, count: int) -> Arrays:
    """Draw machines, their rooms, loads and sensors."""
    kind = rng.choice(["fast", "tower", "liquid", "passive"], size=count, p=[0.3, 0.35, 0.15, 0.2])

    def between(**ranges: tuple[float, float]) -> np.ndarray:
        values = np.empty(count)
        for name, (low, high) in ranges.items():
            mine = kind == name
            values[mine] = np.exp(rng.uniform(np.log(low), np.log(high), mine.sum()))
        return values

    m: Arrays = {"kind": kind}
    m["chip"] = between(fast=(8, 25), tower=(8, 30), liquid=(8, 30), passive=(6, 25))
    m["base"] = between(fast=(40, 120), tower=(60, 250), liquid=(60, 200), passive=(60, 250))
    m["fins"] = between(
        fast=(150, 500), tower=(400, 1100), liquid=(1500, 6000), passive=(400, 2000)
    )
    m["r_chip"] = between(
        fast=(0.08, 0.25), tower=(0.06, 0.22), liquid=(0.06, 0.22), passive=(0.1, 0.4)
    )
    m["r_base"] = between(
        fast=(0.04, 0.12), tower=(0.03, 0.1), liquid=(0.03, 0.08), passive=(0.05, 0.2)
    )
    m["r_fins"] = between(
        fast=(0.15, 0.35), tower=(0.1, 0.3), liquid=(0.08, 0.2), passive=(0.6, 1.5)
    )
    m["load_w"] = between(fast=(40, 100), tower=(65, 160), liquid=(90, 220), passive=(12, 40))
    m["idle_w"] = m["load_w"] * rng.uniform(0.05, 0.2, count)
    m["convection"] = rng.choice([0.25, 0.33], count)
    m["radiated"] = rng.uniform(0.1, 0.4, count)
    curve = rng.choice(["fixed", "chip", "coolant"], count, p=[0.5, 0.4, 0.1])
    curve[(curve == "coolant") & (kind != "liquid")] = "chip"
    curve[kind == "passive"] = "fixed"
    m["curve"] = curve
    on_coolant = curve == "coolant"
    m["fan_from"] = np.where(on_coolant, rng.uniform(24, 32, count), rng.uniform(30, 60, count))
    m["fan_over"] = np.where(on_coolant, rng.uniform(6, 20, count), rng.uniform(15, 45, count))
    m["fan_least"] = rng.uniform(0.25, 0.6, count)
    m["fan_power"] = rng.uniform(0.5, 0.8, count)
    m["fan_s"] = np.exp(rng.uniform(np.log(2), np.log(30), count))
    m["case"] = np.exp(rng.uniform(np.log(20), np.log(200), count))
    m["r_case"] = np.where(rng.random(count) < 0.5, 0.0, rng.uniform(0.02, 0.12, count))
    m["board"] = np.exp(rng.uniform(np.log(150), np.log(800), count))
    boards = np.exp(rng.uniform(np.log(8), np.log(40), count))
    boards = np.where(rng.random(count) < 0.5, boards, np.inf)
    m["r_board"] = np.where(kind == "passive", 4 * boards, boards)
    m["r_board_air"] = np.exp(rng.uniform(np.log(1.5), np.log(6), count))
    m["leak"] = rng.choice([0, 0, 0.002, 0.004], count)
    m["boost"] = np.where(rng.random(count) < 0.5, rng.uniform(1.1, 1.5, count), 1.0)
    m["boost_s"] = rng.choice([8, 28, 56], count)
    m["wander"] = rng.choice([0, 0.005, 0.02], count, p=[0.6, 0.25, 0.15])
    m["wander_s"] = np.exp(rng.uniform(np.log(5), np.log(300), count))
    m["warm_s"] = np.where(rng.random(count) < 0.2, rng.uniform(120, 900, count), 0.0)
    m["rest_s"] = rng.uniform(20, 200, count)
    m["minutes"] = rng.choice([10, 15, 20, 30, 45], count, p=[0.1, 0.15, 0.25, 0.3, 0.2])
    m["room"] = rng.uniform(17, 28, count)
    m["wave"] = rng.choice([0.1, 0.5, 1.5], count, p=[0.3, 0.5, 0.2])
    m["wave_s"] = np.exp(rng.uniform(np.log(1800), np.log(10000), count))
    m["phase"] = rng.random(count)
    m["drift"] = rng.normal(0, 0.7, count) * (rng.random(count) < 0.3)
    m["digit"] = rng.choice([0.0, 0.1, 0.5, 1.0], count, p=[0.1, 0.2, 0.2, 0.5])
    m["noise"] = np.exp(rng.uniform(np.log(0.05), np.log(0.6), count))
    m["memory"] = rng.choice([0, 0.6, 0.9], count)
    m["interval"] = rng.choice([1.0, 2.0, 5.0], count, p=[0.7, 0.2, 0.1])
    m["room_digit"] = rng.choice([0.01, 0.1, 0.5], count, p=[0.4, 0.4, 0.2])
    return m


class _State:
    """Temperatures and fans of all machines."""

    def __init__(self, m: Arrays) -> None:
        self.m = m
        self.chip, self.base, self.fins, self.case, self.board = (
            m["room"].copy() for _ in range(5)
        )
        self.felt = m["room"].copy()  # what the fan curve sees
        self.fan = m["fan_least"].copy()
        self.air = np.ones_like(self.fan)  # how freely it passes, against the usual

    def copy(self) -> "_State":
        other = _State(self.m)
        for name in ("chip", "base", "fins", "case", "board", "felt", "fan", "air"):
            setattr(other, name, getattr(self, name).copy())
        return other

    def leaking(self, watts: np.ndarray) -> np.ndarray:
        return watts * (1 + self.m["leak"] * (self.chip - 60))

    def _to_air(self) -> np.ndarray:
        m = self.m
        rise = np.maximum(self.fins - self.case, 0.2)
        kelvin = 273 + (self.fins + self.case) / 2
        still = (1 - m["radiated"]) * (rise / 40) ** m["convection"]
        still = still + m["radiated"] * (kelvin / 315) ** 3
        forced = self.fan ** m["fan_power"]
        return self.air * np.where(m["kind"] == "passive", still, forced) / m["r_fins"]

    def step(
        self, watts: np.ndarray, room: np.ndarray, seconds: float, sizes: Arrays | None = None
    ) -> None:
        m = self.m
        size = sizes or m
        self.felt = self.felt + (self.chip - self.felt) * (1 - np.exp(-seconds / size["fan_s"]))
        seen = np.where(m["curve"] == "coolant", self.fins, self.felt)
        wanted = np.clip((seen - m["fan_from"]) / m["fan_over"], 0, 1)
        wanted = m["fan_least"] + (1 - m["fan_least"]) * wanted
        wanted = np.where(m["curve"] == "fixed", m["fan_least"], wanted)
        self.fan = self.fan + (wanted - self.fan) * (1 - np.exp(-seconds / 5))
        first = (self.chip - self.base) / m["r_chip"]
        second = (self.base - self.fins) / m["r_base"]
        third = (self.fins - self.case) * self._to_air()
        fourth = np.where(m["r_case"] > 0, (self.case - room) / np.maximum(m["r_case"], 1e-3), 0)
        to_board = (self.chip - self.board) / m["r_board"]
        from_board = (self.board - self.case) / m["r_board_air"]
        self.chip = self.chip + seconds / size["chip"] * (watts - first - to_board)
        self.base = self.base + seconds / size["base"] * (first - second)
        self.fins = self.fins + seconds / size["fins"] * (second - third)
        self.board = self.board + seconds / size["board"] * (to_board - from_board)
        case = self.case + seconds / size["case"] * (third + from_board - fourth)
        self.case = np.where(m["r_case"] > 0, case, room)

    def settled(self, watts: np.ndarray, room: np.ndarray) -> np.ndarray:
        """Return where the chip settles: small bodies come to the same rest sooner."""
        count = room.size
        small = {"chip": np.full(count, 30.0), "base": np.full(count, 30.0)}
        small |= {"fins": np.minimum(self.m["fins"], 120), "case": np.full(count, 40.0)}
        small |= {"board": np.full(count, 20.0), "fan_s": np.full(count, 20.0)}
        state = self.copy()
        for _ in range(20000):
            state.step(state.leaking(watts), room, 0.2, small)
        self.__dict__.update({k: v for k, v in state.__dict__.items() if k != "m"})
        return self.chip


@dataclass(frozen=True)
class Levels:
    """Steady rises of one cooler at some powers in a room of 25 °C, and its capacity below 95 °C."""

    kind: str
    power_w: np.ndarray
    rise_k: np.ndarray
    fan: np.ndarray  # share of full speed; 0 without
    capacity_w: float


def levels(seed: int, count: int) -> list[Levels]:
    """Return four or five levels each, from a third of the capacity to 75 to 100 % of it."""
    rng = np.random.default_rng(seed)
    m = machines(rng, count)
    m["room"] = np.full(count, 25.0)

    def settled(watts: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        state = _State(m)
        rise = state.settled(watts, m["room"]) - m["room"]
        return state.leaking(watts), rise, np.where(m["kind"] == "passive", 0.0, state.fan)

    low, high = np.full(count, 2.0), np.full(count, 600.0)
    for _ in range(12):
        middle = np.sqrt(low * high)
        below = settled(middle)[1] < 70.0
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    watts = np.sqrt(low * high)
    power, rise, _ = settled(watts)
    capacity = power * 70.0 / rise
    number = rng.choice([4, 5], count)
    first, last = rng.uniform(0.3, 0.45, count), rng.uniform(0.75, 1.0, count)
    steps = [np.minimum(k / (number - 1), 1.0) for k in range(5)]
    found = np.array([settled(watts * (first + (last - first) * step)) for step in steps])
    return [
        Levels(
            "passive"
            if kind == "passive"
            else "fan, steady"
            if curve == "fixed"
            else "fan on a curve",
            *found[: number[k], :, k].T,
            float(capacity[k]),
        )
        for k, (kind, curve) in enumerate(zip(m["kind"], m["curve"], strict=True))
    ]


def runs(seed: int, count: int, *, change: str = "") -> list[Run]:
    """Simulate that many machines; power or air changes by 6 to 40 % in mid-run if asked for."""
    rng = np.random.default_rng(seed)
    m = machines(rng, count)
    m["change_s"] = np.full(count, np.inf)
    by, power, air = np.zeros(count), 0.0, 0.0
    if change:
        power, air = float(change == "power"), float(change == "air")
        m["minutes"] = rng.choice([20, 30, 45], count)
        m["change_s"] = IDLE_S + 60 * m["minutes"] * rng.uniform(0.3, 0.75, count)
        by = rng.uniform(0.06, 0.4, count) * rng.choice([-1, 1], count)
    state = _State(m)
    state.settled(m["idle_w"], m["room"])
    for k in range(int(1100 / STEP_S)):  # some did something else just before
        left = 1100 - k * STEP_S
        busy = (left < m["warm_s"] + m["rest_s"]) & (left >= m["rest_s"]) & (m["warm_s"] > 0)
        state.step(state.leaking(np.where(busy, m["load_w"], m["idle_w"])), m["room"], STEP_S)
    still = state.copy()  # a twin whose room and power stand still
    size = int((IDLE_S + 60 * LONGEST_MIN) / STEP_S)
    chip, watts, rooms, calm, base, fins = (np.empty((size, count)) for _ in range(6))
    wander = np.zeros(count)
    fade = np.exp(-STEP_S / m["wander_s"])
    for k in range(size):
        t = k * STEP_S
        wave = np.sin(2 * np.pi * (t / m["wave_s"] + m["phase"]))
        rooms[k] = m["room"] + m["wave"] * wave + m["drift"] * t / 1800
        wander = fade * wander + rng.normal(0, 1, count) * m["wander"] * np.sqrt(1 - fade**2)
        boost = np.where(t - IDLE_S < m["boost_s"], m["boost"], 1)
        changed = np.where(t >= m["change_s"], by, 0)
        base[k] = m["load_w"] * (1 + wander) * (1 + power * changed)
        state.air = 1 + air * changed
        watts[k] = state.leaking(m["idle_w"] if t < IDLE_S else base[k] * boost)
        state.step(watts[k], rooms[k], STEP_S)
        chip[k], fins[k] = state.chip, state.fins
        still.step(
            still.leaking(m["idle_w"] if t < IDLE_S else m["load_w"] * boost), m["room"], STEP_S
        )
        calm[k] = still.chip
    times = np.arange(size) * STEP_S
    ends = IDLE_S + 60 * m["minutes"]
    loaded = (times[:, None] >= IDLE_S + m["boost_s"]) & (times[:, None] < ends)
    mean_room = (rooms * loaded).sum(0) / loaded.sum(0)
    mean_w = (base * loaded).sum(0) / loaded.sum(0)
    rest = still.settled(m["load_w"], m["room"]).copy()
    slow_s = (still.fins - m["room"]) / m["load_w"] * (m["fins"] + m["base"])
    still.air = 1 + air * by
    moved = still.settled(m["load_w"] * (1 + power * by), m["room"]) - rest
    truth = state.settled(mean_w, mean_room) - mean_room
    over_coolant = state.chip - state.fins
    made = []
    for r in range(count):
        every, end = int(m["interval"][r] / STEP_S), int(ends[r] / STEP_S)
        time_s = times[:end:every]
        noise = np.zeros(time_s.size)
        fade_r = m["memory"][r] ** m["interval"][r]
        fresh = rng.normal(0, np.sqrt(1 - fade_r**2), time_s.size)
        for k in range(1, time_s.size):
            noise[k] = fade_r * noise[k - 1] + fresh[k]
        read = chip[:end:every, r] + m["noise"][r] * noise
        room = rooms[:end:every, r] + rng.normal(0, 0.05, time_s.size)
        power = watts[:end:every, r] * (1 + rng.normal(0, 0.005, time_s.size))
        # Noise of its own, so that what is drawn for the others stays what it was.
        coolant = fins[:end:every, r] + 0.05 * np.random.default_rng(r).standard_normal(time_s.size)
        made.append(
            Run(
                time_s=time_s,
                temperature_c=_rounded(read, m["digit"][r]),
                room_c=_rounded(room, m["room_digit"][r]),
                power_w=_rounded(power, 0.1),
                rise_k=float(truth[r]),
                coolant_c=_rounded(coolant, (0.1, 0.5, 1.0)[r % 3]),
                over_coolant_k=float(over_coolant[r]),
                missing_k=float(rest[r] - calm[end - 1, r]),
                change_s=float(m["change_s"][r]),
                change_k=float(moved[r]),
                slow_s=float(slow_s[r]),
                kind=str(m["kind"][r]),
                on_curve=bool(m["curve"][r] != "fixed"),
                warm=bool(m["warm_s"][r] > 0),
                wander=float(m["wander"][r]),
            )
        )
    return made


def _rounded(values: np.ndarray, digit: float) -> np.ndarray:
    return np.round(values / digit) * digit if digit else values
