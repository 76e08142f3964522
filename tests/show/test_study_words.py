"""What people read of the answers of a study: never more certain than the numbers."""

from dataclasses import replace

import matplotlib.image
import numpy as np
import pandas as pd
import pytest

from gelassen.answers.capacities import CapacityAsked, find_capacities
from gelassen.answers.rows.run_row import RunRow
from gelassen.core.changes.alignment import align_changes
from gelassen.core.comparing.along.response import response_curve
from gelassen.core.comparing.effects import factor_effects
from gelassen.core.comparing.machine_drift import machine_drift
from gelassen.core.comparing.repeatability import find_repeatability
from gelassen.core.comparing.tradeoff import tradeoff
from gelassen.figures.alignment_figure import alignment_figure
from gelassen.figures.plots import plot, save_plot
from gelassen.show.capacity_text import capacity_markdown, capacity_text
from gelassen.show.findings_text import (
    drift_text,
    effects_text,
    equal_text,
    parts_text,
    repeatability_text,
    response_text,
    tradeoff_text,
)
from gelassen.study.file.levels import without_power


@pytest.fixture
def pads():
    """A pad that helps by 3 K behind a closed door, and not at all behind an open one."""
    rng = np.random.default_rng(5)
    rows = [
        (60 - 3 * (pad == "pad" and door == "closed") + rng.normal(0, 0.3), pad, door)
        for pad in ("none", "pad") for door in ("open", "closed") for _ in range(4)
    ]  # fmt: skip
    return pd.DataFrame(rows, columns=["value", "pad", "door"])


def test_an_effect_that_depends_on_another_factor_is_said_so(pads):
    text = effects_text(factor_effects(pads, ["pad", "door"]))
    assert "how pad differs from none depends on the rest: 3." in text
    assert "K cooler (closed) to " in text


def test_effects_without_repeats_are_not_called_effects(pads):
    once = pads.drop_duplicates(["pad", "door"])
    text = effects_text(factor_effects(once, ["pad", "door"]))
    assert "without repeats it cannot be told whether that means anything" in text
    assert "yes" not in text.split()
    known = effects_text(factor_effects(once, ["pad", "door"], repeatability=(0.3, 10)))
    assert "how pad differs from none depends on the rest" in known


def row(setup, power, value, *, limited=False, limit_w=None, unit="K", run="r"):
    return RunRow(
        run=f"{setup}-{power}-{run}", setup=setup, value=value, standard_error=0.1, low=value - 0.2,
        high=value + 0.2, unit=unit, power_w=power, at_limit=limited, power_limit_w=limit_w,
        reference="room.air.temp_c",
    )  # fmt: skip


def capacities(rows, **options):
    asked = {
        "limit_c": 95.0,
        "room_c": 25.0,
        "at_power_w": None,
        "confidence": 0.95,
        "groups": {},
        **options,
    }
    return find_capacities(rows, [], CapacityAsked(title="coolers", made_up=True, **asked))


def test_setups_are_grouped_by_their_names_without_the_power():
    assert without_power("Brise 120, on-air, 65 W") == "Brise 120, on-air"
    assert without_power("65W Steg") == "Steg"
    assert without_power("95 W") == "95 W"
    found = capacities([row("Steg, 20 W", 20, 20.0), row("Steg, 40 W", 40, 38.0)])
    assert list(found.setups["setup"]) == ["Steg"]


def test_capacities_say_what_was_held_back_and_what_cannot_be_told():
    rows = [
        *(row(f"Brise 120, {p} W", p, 0.45 * p) for p in (45, 65, 95, 125)),
        row("Kiesel 92, 125 W", 108, 70.1, limited=True, limit_w=125),
        row("Steg, 20 W", 20, 25.0),
        row("Tarn 240, 95 W", 95, 35.0, unit="°C"),
    ]
    found = capacities(rows, at_power_w=100)
    text = capacity_text(found)
    assert text.startswith(
        "coolers: power sustained at 25 °C room, limit 95 °C   (made-up sample data)"
    )
    assert "Kiesel 92 held at least 105 W at its limit; no run of it stayed below." in text
    assert "Steg held 20 W below its limit; one level does not tell how much more it would." in text
    assert "left out: Tarn 240, 95 W-95-r: no rise over the room" in text
    passes = found.setups.set_index("setup")["passes"]
    assert dict(passes) == {"Brise 120": "yes", "Kiesel 92": "yes", "Steg": "cannot tell"}
    assert "| Steg |" in capacity_markdown(found)
    assert not found.differences.set_index(["setup", "versus"])["distinguishable"].loc[
        ("Brise 120", "Steg")
    ]


def test_capacities_use_what_was_logged_of_fans_and_room():
    def runs(**more):
        return [replace(row(f"Steg, {p} W", p, 3.2 * p**0.8), **more) for p in (20, 30, 40)]

    unknown, none, odd_duty = (
        capacities(runs(**more)).answers["Steg"]
        for more in ({}, {"fan_rpm": 0.0}, {"fan_rpm": 900.0, "duty_pct": None})
    )
    truth = (70 / 3.2) ** 1.25
    assert all(answer.low_w <= truth <= answer.high_w for answer in (unknown, none, odd_duty))
    assert none.high_w - none.low_w < odd_duty.high_w - odd_duty.low_w
    follows = [
        replace(row(f"Brise 120, {p} W", p, rise), fan_rpm=rpm, duty_pct=duty, reference_c=22.0)
        for p, rise, rpm, duty in ((60, 33.0, 900, 54), (90, 45.0, 1300, 79), (120, 57.0, 1600, 98))
    ]
    capped = capacities(follows).answers["Brise 120"]
    free = capacities([replace(r, duty_pct=None) for r in follows]).answers["Brise 120"]
    assert capped.high_w < free.high_w


def test_resistance_is_shown_at_each_power_and_marked_where_held_back():
    rows = [
        row("a, 65 W", 65, 32.5, limit_w=65),
        row("a, 125 W", 110, 70.0, limited=True, limit_w=125),
    ]
    text = capacity_text(capacities(rows))
    assert "at 65 W  at 125 W" in text
    assert "0.500    0.636*" in text


def test_a_course_is_worded_by_where_it_stops_paying():
    rng = np.random.default_rng(1)
    fans = np.repeat([1, 2, 3, 4], 4)
    gain = np.array([0, 0, 4, 6.0, 6.1])
    found = response_curve(fans, 60 - gain[fans] + rng.normal(0, 0.1, 16), worth=1.0)
    assert "Beyond fans = 3, no step is known to pay more than 1 K." in response_text(found, "fans")
    flat = response_curve(fans, 60 + rng.normal(0, 0.1, 16))
    assert "No step of fans is known to pay." in response_text(flat, "fans")
    steep = response_curve(fans, 60 - 3.0 * fans + rng.normal(0, 0.1, 16))
    assert "Every step of fans up to the last one pays." in response_text(steep, "fans")
    valley = response_curve(fans, (fans - 2.4) ** 2 + rng.normal(0, 0.05, 16))
    assert "It is coolest at 2.4" in response_text(valley, "fans")
    assert "cannot tell" in response_text(response_curve([1, 2], [60, 50]), "fans")


def test_tradeoffs_are_worded_with_what_is_got_for_what():
    found = tradeoff(
        ["Brise 120", "Kiesel 92"], [45, 25], [131, 108], y_low=[126, 104], y_high=[137, 112],
        x_name="price", y_name="capacity, W", more_y=True,
    )  # fmt: skip
    text = tradeoff_text(found)
    assert "Nothing is better in both price and capacity, W than: Kiesel 92; Brise 120." in text
    assert "capacity per price" in text
    assert "4.32" in text
    assert " per " not in tradeoff_text(tradeoff(["a"], [1], [2], x_name="noise", y_name="rise, K"))


def test_drift_and_repeatability_are_said_with_their_intervals():
    days = np.arange(6.0)
    steady = drift_text(machine_drift(days, [50, 50.2, 49.9, 50.1, 50, 50.1]), "Brise 120")
    assert steady.startswith("No drift of the machine beyond chance:")
    moving = drift_text(machine_drift(days, 50 + days), "Brise 120")
    assert "The machine drifted: +5.00 K" in moving
    assert "--correct-drift" in moving
    assert "cannot be told: a trend needs four runs" in drift_text(machine_drift([0], [50]), "x")
    once = find_repeatability(pd.DataFrame({"setup": ["a", "b"], "value": [1.0, 2.0]}))
    assert repeatability_text(once) == (
        "Repeatability cannot be told: no setup was run twice: repeat one, and remount it each time."
    )


def test_parts_and_equal_noise_say_what_is_not_known():
    parts = pd.DataFrame(
        [
            ("a", "vrm.1.temp_c", 80.0, 82.0, 100.0, 20.0, np.nan, True),
            ("a", "cpu.core3.temp_c", 1, 1, 1, 1, 1, False),
        ],
        columns=[
            "setup",
            "part",
            "hold_mean_c",
            "hold_peak_c",
            "limit_c",
            "headroom_k",
            "comfort_k",
            "first",
        ],
    )
    text = parts_text(parts)
    assert "vrm.1.temp_c     80.0     82.0       100        20.0             –   nearest" in text
    assert "core3" not in text
    equal = pd.DataFrame(
        [
            ("a", 30.0, 50.0, 49.0, 51.0, 2, 0.0, np.nan, np.nan, False, 95.0),
            ("b", 30.0, np.nan, np.nan, np.nan, 1, np.nan, np.nan, np.nan, False, 95.0),
            ("c", 30.0, 52.0, -np.inf, np.inf, 2, 2.0, -np.inf, np.inf, False, np.nan),
        ],
        columns=["setup", "at", "rise_k", "low_k", "high_k", "levels", "difference_k", "difference_low_k",
                 "difference_high_k", "distinguishable", "power_w"],
    ).assign(passes_limit=False, method="smooth courses between levels")  # fmt: skip
    lines = equal_text(equal, "noise_dba").splitlines()
    assert "not reached" in lines[-1]
    assert "cannot tell" in lines[-2]


def test_figures_have_titles_axes_and_names_as_they_are(pads, tmp_path):
    found = factor_effects(pads, ["pad", "door"])
    axis = plot(found)
    assert len(axis.get_yticklabels()) == len(found.main)
    assert "grey: cannot be told from none" in axis.get_title()
    course = plot(response_curve([1, 1, 2, 2, 3, 3], [60, 60.1, 55, 55.1, 55, 54.9]))
    assert course.get_legend() is not None
    traded = plot(tradeoff(["$a$ {x}", "b"], [1, 2], [2, 1], x_name="noise", y_name="rise, K"))
    assert traded.get_xlabel() == "noise"
    path = tmp_path / "figures" / "effects.png"
    save_plot(found, path, below=("Fans ($1$)", "made-up sample data"))
    assert matplotlib.image.imread(path).shape[:2] == (800, 1280)


def test_the_figure_of_two_logs_shows_both_and_the_offset(tmp_path):
    t = np.arange(0, 600.0)
    power = np.where((t > 100) & (t < 400), 95.0, 15.0) + np.random.default_rng(2).normal(
        0, 1, t.size
    )
    found = align_changes(t, power, t + 25, power * 1.1)
    assert found.low_s <= -25 <= found.high_s
    path = tmp_path / "laid.png"
    alignment_figure(
        ("a", "cpu.package.power_w", t, power),
        ("b", "wall.supply.power_w", t + 25, power * 1.1),
        found,
        path,
    )
    assert matplotlib.image.imread(path).shape[:2] == (800, 1280)
