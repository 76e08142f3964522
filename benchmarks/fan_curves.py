"""How well fan curves are predicted: where they settle, and whether the loop hunts.

The machines obey another law than the analysis: fins as a heat exchanger whose air warms up, free
convection and radiation, and three bodies in time. No constant of the analysis was chosen on them.
"""

import math
from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import brentq
from stepped_fans import stepped_table
from tables import main

from gelassen.core.fans.cooling import cooling_law
from gelassen.core.fans.curve import FanCurve, Follower
from gelassen.core.fans.loop import Fan
from gelassen.core.fans.operating_point import operating_point
from gelassen.core.fans.speed import speed_law

_HUNTS_PCT, _HUNTS_K = 4.0, 0.7  # what the product calls hunting, peak to peak


@dataclass(frozen=True, kw_only=True)
class Machine:
    """A chip, a contact, fins in a stream of air, a case."""

    top_rpm: float
    stream_w_per_k: float  # heat that the air takes for each kelvin it warms, at top speed
    fins_w_per_k: float  # from fins to air, at top speed
    turbulence: float  # power of the speed with which that grows
    free: float  # W/K by free convection at a rise of 30 K
    radiated: float  # W/K at a rise of 50 K
    contact_k_per_w: float
    spreading: float  # share by which the contact's resistance grows for each W
    case_w_per_k: float
    other_w: float
    start_pct: float
    bow: float
    chip_j_per_k: float
    fins_j_per_k: float
    fan_s: float

    def rpm(self, duty_pct: float) -> float:
        """Return the speed at a duty."""
        x = max((duty_pct - self.start_pct) / (100 - self.start_pct), 0.0)
        return self.top_rpm * (0.97 * (x + self.bow * x * (1 - x)) + 0.03 * (x > 0))

    def fins(self, rpm: float, rise_k: float) -> float:
        """Return what the fins give off, W, at this rise over the case air."""
        speed = max(rpm / self.top_rpm, 1e-3)
        stream, surface = self.stream_w_per_k * speed, self.fins_w_per_k * speed**self.turbulence
        conductance = stream * (1 - math.exp(-surface / stream))
        still = self.free * max(rise_k / 30, 0.01) ** 0.25 + self.radiated * rise_k / 50
        return (conductance + still) * rise_k

    def rise(self, rpm: float, power_w: float) -> float:
        """Return where the chip settles over the room, K."""
        fins = brentq(lambda t: self.fins(rpm, t) - power_w, 0.001, 5000)
        contact = power_w * self.contact_k_per_w * (1 + self.spreading * power_w)
        return contact + fins + (power_w + self.other_w) / self.case_w_per_k


def random_machine(rng: np.random.Generator) -> Machine:
    """Return a machine of wide ranges."""
    stream = rng.uniform(6, 30)
    return Machine(
        top_rpm=rng.uniform(1200, 3200), stream_w_per_k=stream, fins_w_per_k=stream * rng.uniform(0.6, 2.0),
        turbulence=rng.uniform(0.5, 0.8), free=rng.uniform(0.1, 0.8), radiated=rng.uniform(0, 0.04),
        contact_k_per_w=rng.uniform(0.05, 0.3), spreading=rng.uniform(0, 0.0008),
        case_w_per_k=rng.uniform(15, 80), other_w=rng.uniform(0, 25), start_pct=rng.uniform(5, 25),
        bow=rng.uniform(-0.25, 0.25), chip_j_per_k=rng.uniform(10, 60),
        fins_j_per_k=rng.uniform(150, 900), fan_s=rng.uniform(0.5, 3.0),
    )  # fmt: skip


def measured(rng: np.random.Generator) -> tuple[Machine, Fan, tuple[float, float]]:
    """Return a machine, what five runs at fixed duties show of it, and the range of their powers."""
    while True:
        machine = random_machine(rng)
        low_w = rng.uniform(45, 100)
        high_w = low_w * rng.uniform(1.2, 1.9)
        duties = np.linspace(rng.uniform(30, 40), 100, 5)
        hottest = machine.rise(machine.rpm(duties[0]), high_w)
        if hottest < 110 and machine.rise(machine.rpm(100), low_w) > 12:
            break
    powers = rng.permutation([low_w, high_w, low_w, high_w, low_w])
    speeds = np.array([machine.rpm(duty) for duty in duties])
    error = rng.uniform(0.05, 0.25)
    true = np.array([machine.rise(*pair) for pair in zip(speeds, powers, strict=True)])
    drift = rng.uniform(
        0.05, 0.3
    )  # K: what runs of one mounting differ by, as rooms and boxes drift
    rises = true + rng.normal(0, math.hypot(error, drift), 5)
    read = speeds * (1 + rng.normal(0, 0.003, 5))
    fan = Fan(
        cooling=cooling_law(read, powers, rises, np.full(5, error)), speed=speed_law(duties, read)
    )
    return machine, fan, (low_w, high_w)


def curve_through(
    rng: np.random.Generator, machine: Machine, power_w: float, room_c: float
) -> FanCurve:
    """Return a curve that settles somewhere inside the measured duties."""
    duty = rng.uniform(43, 97)
    temp = room_c + machine.rise(machine.rpm(duty), power_w)
    low, high, width = rng.uniform(40, duty - 1), rng.uniform(duty + 1, 100), rng.uniform(6, 25)
    first = temp - width * (duty - low) / (high - low)
    return FanCurve(temperatures_c=(first, first + width), duties_pct=(low, high))


def lively_curve(
    rng: np.random.Generator, machine: Machine, power_w: float, room_c: float
) -> FanCurve:
    """Return a step or a steep part about where it settles, with or without hysteresis and average."""
    low, high = sorted(rng.uniform(40, 100, 2))
    temps = [room_c + machine.rise(machine.rpm(duty), power_w) for duty in (high, low)]
    middle, half = rng.uniform(temps[0] - 1, temps[1] + 1), rng.uniform(0.3, 6)
    steps = bool(rng.random() < 0.5)
    around = (middle - 10, middle) if steps else (middle - half, middle + half)
    return FanCurve(
        temperatures_c=around, duties_pct=(low, high), steps=steps,
        hysteresis_k=float(rng.choice([0, 1, 3, 6])), average_s=float(rng.choice([0, 3, 10])),
    )  # fmt: skip


def settling_table(seeds: int) -> None:
    """Print how often temperature and speed are where they were predicted."""
    rng = np.random.default_rng(11)
    rows = []
    for _ in range(4 * seeds):
        machine, fan, (low_w, high_w) = measured(rng)
        power, room = rng.uniform(low_w, high_w), rng.uniform(18, 32)
        curve = curve_through(rng, machine, power, room)
        temp = brentq(
            lambda t, m=machine, c=curve, p=power, r=room: r + m.rise(m.rpm(c.duty_at(t)), p) - t,
            room, room + 500,
        )  # fmt: skip
        rpm = machine.rpm(curve.duty_at(temp))
        point = operating_point(fan, curve, power, room)
        rows.append(
            (
                abs(point.temp_c[0] - temp) <= 1.0, point.temp_c[1] <= temp <= point.temp_c[2],
                abs(point.rpm[0] / rpm - 1) <= 0.03, point.rpm[1] <= rpm <= point.rpm[2],
            )
        )  # fmt: skip
    shares = [f"{100 * share:.1f} %" for share in np.mean(rows, axis=0)]
    print(f"\n## Untested curves, five measured duties, {len(rows)} random machines\n")
    print(
        "| within 1.0 K | its 95 % interval covers | within 3 % of rpm | its 95 % interval covers |"
    )
    print("|---:|---:|---:|---:|")
    print("| " + " | ".join(shares) + " |")


def hunts(
    machine: Machine, curve: FanCurve, power_w: float, room_c: float, *, fixed: bool = False
) -> tuple[bool, float]:
    """Return whether three bodies in time hunt under a curve, and how long a fixed duty heats up."""
    follower = Follower(curve, duty_pct=curve.duty_at(room_c))
    case_c = room_c + (power_w + machine.other_w) / machine.case_w_per_k
    chip = fins = case_c
    rpm = machine.rpm(follower.duty_pct or 0.0)
    temps, duties, step = [], [], 0.25
    for k in range(int(5400 / step)):
        contact = machine.contact_k_per_w * (1 + machine.spreading * power_w)
        flow = (chip - fins) / contact
        chip += step * (power_w - flow) / machine.chip_j_per_k
        fins += step * (flow - machine.fins(rpm, max(fins - case_c, 0.0))) / machine.fins_j_per_k
        if k % 4 == 0:
            duty = follower.step(chip)
            temps.append(chip)
            duties.append(duty)
        rpm += step / machine.fan_s * (machine.rpm(follower.duty_pct or 0.0) - rpm)
    temp, duty_pct = np.array(temps), np.array(duties)
    if fixed:
        begins, ends = temp[10:20].mean(), temp[-60:].mean()
        return False, float(np.argmax(temp >= begins + 0.632 * (ends - begins)))
    late = temp.size * 6 // 10
    turns = np.count_nonzero(np.diff(np.sign(temp[late:] - temp[late:].mean())))
    wide = np.ptp(duty_pct[late:]) > _HUNTS_PCT or np.ptp(temp[late:]) > _HUNTS_K
    return bool(turns >= 3 and wide), 0.0


def hunting_table(seeds: int) -> None:
    """Print how often hunting is predicted or excluded rightly."""
    rng = np.random.default_rng(12)
    right = {True: 0, False: 0}
    asked = {True: 0, False: 0}
    edge = 0
    for _ in range(seeds):
        machine, fan, (low_w, high_w) = measured(rng)
        power, room = rng.uniform(low_w, high_w), rng.uniform(18, 32)
        still = FanCurve(temperatures_c=(0.0, 100.0), duties_pct=(70.0, 70.0))
        fan = replace(fan, warm_up_s=hunts(machine, still, power, room, fixed=True)[1])
        curve = lively_curve(rng, machine, power, room)
        truth = hunts(machine, curve, power, room)[0]
        said = operating_point(fan, curve, power, room).hunting
        if said == "near the edge":
            edge += 1
            continue
        asked[truth] += 1
        right[truth] += (said == "hunts") == truth
    print(f"\n## Hunting, {seeds} random machines and curves\n")
    print("| rightly said to hunt | rightly said to be steady | near the edge, left out |")
    print("|---:|---:|---:|")
    print(f"| {right[True]} of {asked[True]} | {right[False]} of {asked[False]} | {edge} |")


if __name__ == "__main__":
    main(
        __doc__,
        {"curves": settling_table, "hunting": hunting_table, "stepped": stepped_table},
        seeds=100,
    )
