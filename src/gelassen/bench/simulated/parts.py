"""The made-up parts of the sample scenario, with their physical constants."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Processor:
    """A made-up processor.

    Dynamic power of a core is ``effective_capacitance * clock * voltage²`` (CMOS switching power);
    voltage rises linearly with clock. Leakage grows with temperature, here by `leakage_per_k` of
    its value at 60 °C per kelvin (a straight line in place of the exponential, good within 30 K).
    """

    name: str = "Corvane 12"
    cores: int = 12
    limit_c: float = 95.0
    base_clock_mhz: float = 1200.0
    top_clock_mhz: float = 4700.0
    sag_mhz_per_k: float = 1.2  # boost lost per kelvin above 50 °C
    volts_at_base: float = 0.78
    volts_at_top: float = 1.24
    effective_capacitance_nf: float = 1.22
    leakage_w_per_core: float = 0.9  # at 60 °C and top voltage
    leakage_per_k: float = 0.012
    uncore_w: float = 9.0
    idle_share: float = 0.012  # of the switching that goes on without a load
    core_j_per_k: float = 2.2
    core_w_per_k: float = (
        0.95  # each core to the spreader, by conduction through silicon and solder
    )
    spreader_j_per_k: float = 60.0
    boost_s: float = 28.0  # averaging time of the long-term power limit
    boost_factor: float = 1.25  # short-term limit over the long-term one


@dataclass(frozen=True, slots=True, kw_only=True)
class Cooler:
    """A made-up cooler: a body on the chip, perhaps a coolant, and fins in the case air.

    The fins give off ``forced * (rpm / 1000)^0.7`` (turbulent flow over plates: Nusselt number
    grows with about the 0.7th to 0.8th power of speed) plus ``natural * (rise / 30 K)^0.25`` (laminar
    free convection) plus radiation of `radiating_m2` grey surface, all in W/K.
    """

    name: str
    contact_k_per_w: float = 0.055  # paste joint, before remounting changes it
    body_j_per_k: float = 400.0
    coolant_j_per_k: float = 0.0  # 0: the body carries the fins itself
    coolant_w_per_k: float = 0.0  # plate to coolant
    forced_w_per_k: float = 2.5
    natural_w_per_k: float = 0.25
    radiating_m2: float = 0.02
    top_rpm: float = 1800.0
    # A fan keeps turning at a lower duty than the one it starts at: its bearing sticks.
    stalls_pct: float = 12.0
    starts_pct: float = 18.0


@dataclass(frozen=True, slots=True, kw_only=True)
class FanCurve:
    """Duty over package temperature: straight between the points, level outside."""

    name: str
    temperatures_c: tuple[float, ...] = (40.0, 60.0, 80.0, 90.0)
    duties_pct: tuple[float, ...] = (30.0, 40.0, 60.0, 70.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Case:
    """The box and cabinet around it: air that warms, and openings to the room."""

    name: str = "cabinet, door closed"
    air_j_per_k: float = 2500.0  # air, and the sheet metal that follows it
    to_room_w_per_k: float = 22.0
    other_heat_w: float = 14.0  # board, drive, supply
    # Walls, cables and drives beyond the metal above store heat and warm late; steel holds 460 J/K a kg.
    walls_j_per_k: float = 0.0
    walls_w_per_k: float = 6.0  # case air to walls: 0.5 to 1 m² at 5 to 10 W/(m² K)


@dataclass(frozen=True, slots=True, kw_only=True)
class Room:
    """Room air: a mean, a slow wave, and a wandering remainder."""

    mean_c: float = 22.0
    wave_k: float = 0.5
    wave_s: float = 5400.0
    phase: float = 0.0
    wander_k: float = 0.15


COOLERS = {
    "Brise 120": Cooler(name="Brise 120", forced_w_per_k=2.75),
    "Kiesel 92": Cooler(
        name="Kiesel 92",
        contact_k_per_w=0.07,
        body_j_per_k=220.0,
        forced_w_per_k=1.35,
        top_rpm=2400.0,
    ),
    "Tarn 240": Cooler(
        name="Tarn 240",
        contact_k_per_w=0.045,
        body_j_per_k=180.0,
        coolant_j_per_k=1500.0,
        coolant_w_per_k=16.0,
        forced_w_per_k=4.8,
        top_rpm=1700.0,
    ),
    "Steg": Cooler(
        name="Steg",
        body_j_per_k=1600.0,
        forced_w_per_k=0.0,
        natural_w_per_k=0.6,
        radiating_m2=0.12,
        top_rpm=0.0,
    ),
}
CURVES = {
    "on-air": FanCurve(name="on-air"),
    "off-air": FanCurve(name="off-air", duties_pct=(45.0, 65.0, 90.0, 100.0)),
}
CASES = {
    "closed": Case(),
    "open": Case(name="cabinet, door open", to_room_w_per_k=60.0),
}
