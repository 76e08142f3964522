"""Random studies asked in every way: the same question has the same answer, whichever command asks.

A larger number of studies: ``GELASSEN_STUDIES=300 pytest tests/answers/test_agreement.py``.
"""

import json
import os
from datetime import UTC, datetime
from itertools import combinations

import numpy as np
import pytest

from gelassen import open_study
from gelassen.conduct.operator.entering import Entry, enter_run

_ALONE = ["difference", "single_low", "single_high"]
_TURNED = ["difference", "single_high", "single_low"]
STUDIES = int(os.environ.get("GELASSEN_STUDIES", "8"))
HEAD = 'format = 1\ntitle = "t"\nmade_up = true\n[machine]\nname = "box"\nlimit_c = 95\n'


def random_study(folder, rng):
    """Write a study of coolers and fan speeds whose runs were typed in.

    With rooms or without, on several days, on shared mountings, at its limit, at two powers.
    """
    coolers = ["A", "B", "C"][: rng.choice([1, 2, 3])]
    speeds = (
        [40, 70, 100][: rng.choice([2, 3])] if len(coolers) == 1 else [40, 70][: rng.choice([1, 2])]
    )
    text = HEAD + f"[doubt]\nremounting_k = {rng.choice([0.3, 0.8])}\n" * int(rng.random() < 0.3)
    text += f"[factors.cooler]\nlevels = {json.dumps(coolers)}\n"
    text += "".join(f'details."{one}" = {{ price = {ord(one)} }}\n' for one in coolers)
    text += f"[factors.speed]\nlevels = {speeds}\n"
    setups = {f"{one}, {speed}": (one, speed) for one in coolers for speed in speeds}
    for name, (one, speed) in setups.items():
        text += f'[setups."{name}"]\ncooler = "{one}"\nspeed = {speed}\n'
    folder.mkdir()
    (folder / "study.toml").write_text(text)
    days, scatter = rng.integers(1, 5), rng.choice([0.1, 0.4, 1.0])
    of_day, mounts, two_powers = rng.normal(0, 0.4, days), rng.random() < 0.4, rng.random() < 0.5
    with_room = rng.choice([0.0, 0.6, 1.0, 1.0])
    for name, (one, speed) in setups.items():
        for k in range(rng.integers(1, 5)):
            day, room = int(rng.integers(days)), 22 + rng.normal(0, 1)
            rise = 40 + {"A": 0, "B": 0.7, "C": 4}[one] - 0.05 * speed
            highest = rise + of_day[day] + room + rng.normal(0, scatter)
            readings = {
                "highest_c": 95.0 if rng.random() < 0.03 else highest, "minutes": 30.0,
                "power_w": 125.0 if two_powers and one == "C" else 95.0,
            }  # fmt: skip
            if rng.random() < with_room:
                readings["room_c"] = room
            moment = datetime(2026, 3, 1 + day, 9 + k, tzinfo=UTC)
            mount = f"m{k // 2}" if mounts else None
            enter_run(folder, Entry(setup=name, readings=readings, started=moment, mount=mount))
    return open_study(folder)


def verdicts(differences):
    """Return difference, interval and verdict of each pair, both ways round."""
    found = {}
    for row in differences.itertuples():
        found[row.setup, row.versus] = [row.difference, row.low, row.high, row.distinguishable]
        found[row.versus, row.setup] = [-row.difference, -row.high, -row.low, row.distinguishable]
    return found


@pytest.mark.parametrize("seed", range(STUDIES))
def test_every_way_to_ask_gives_the_same_interval_and_verdict(seed, tmp_path):
    study = random_study(tmp_path / "study", np.random.default_rng(seed))
    told = study.compare()
    setups, pairs = told.setups.set_index("setup"), verdicts(told.differences)
    ends = setups[["rise_k", "low_k", "high_k"]]
    assert all(
        one["rise_k"] == pytest.approx(ends.loc[one["setup"], "rise_k"])
        for one in told.to_dict()["setups"]
    )
    traded = study.tradeoff("price").table.set_index("setup")[["y", "y_low", "y_high"]]
    assert traded.to_numpy() == pytest.approx(ends.loc[traded.index].to_numpy())
    for name in setups.index:
        against = study.compare(baseline=name)
        if (
            against.unit != told.unit
        ):  # its own group: rises and temperatures are not ranked together
            continue
        same = against.setups.set_index("setup").loc[ends.index, ends.columns]
        assert same.to_numpy() == pytest.approx(ends.to_numpy(), abs=1e-6)
        for pair, found in verdicts(against.differences).items():
            assert found[0] == pytest.approx(pairs[pair][0], abs=1e-6)
            if len(setups) == 2:
                assert found == pytest.approx(pairs[pair], abs=1e-6)
    levels = [
        set(column) for column in zip(*(one.split(", ") for one in setups.index), strict=True)
    ]
    moved = [name for name, own in zip(study.file.factors, levels, strict=True) if len(own) > 1]
    effects = study.effects() if moved else None
    for row in (
        () if effects is None else [effects.conditional, effects.main][len(moved) == 1].itertuples()
    ):
        rest = row.where if len(moved) > 1 else min(levels[row.factor == "cooler"])
        a, b = (
            f"{x}, {rest}" if row.factor == "cooler" else f"{rest}, {x}"
            for x in (row.level, row.versus)
        )
        found = [row.effect, row.low, row.high, row.distinguishable]
        assert found == pytest.approx(pairs[a, b], abs=1e-6)
    alone = told.differences.set_index(["setup", "versus"])
    for cooler in levels[0] if len(moved) > 1 else ():  # the scatter is that of all runs
        pair = (f"{cooler}, 70", f"{cooler}, 40")
        if not set(pair) <= set(setups.index[~setups["at_limit"].astype(bool)]):
            continue
        (step,) = study.along("speed", where={"cooler": cooler}).steps.itertuples()
        one = alone.loc[pair] if pair in alone.index else -alone.loc[pair[::-1], _ALONE][_TURNED]
        wanted = one[_ALONE] if pair in alone.index else one
        assert [step.change, step.low, step.high] == pytest.approx(list(wanted), abs=1e-6)
    if moved == ["speed"]:
        for row in study.along("speed").steps.itertuples():
            wanted = pairs[tuple(f"{min(levels[0])}, {x:g}" for x in (row.next_x, row.x))]
            assert [row.change, row.low, row.high] == pytest.approx(wanted[:3], abs=1e-6)
            assert (row.pays == "cannot tell") == (not wanted[3])
    assert all(apart[3] == (apart[1] > 0 or apart[2] < 0) for apart in pairs.values())
    assert all(
        not (pairs[a, b][3] and set(setups.loc[a, "group"]) & set(setups.loc[b, "group"]))
        for a, b in combinations(setups.index, 2)
    )
