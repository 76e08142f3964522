"""How often differences between setups are told: where there are some, and where there are none."""

import numpy as np
import pandas as pd

from gelassen.answers.workers.pool import process_pool
from gelassen.core import compare_setups
from gelassen.core.comparing.effects import factor_effects
from gelassen.core.comparing.priors import Days, Spread
from gelassen.core.thermal.priors import RoomEffect


def difference_table(seeds: int) -> None:
    """Print how often differences between setups are found, and how often where there are none."""
    print("\n## Differences between setups\n")
    print(
        "Two to six setups, three runs each, spread 0.3 to 0.8 K; true levels all alike, or anywhere "
        f"within 6 K; {4 * seeds} studies of each kind.\n"
    )
    print(
        "| what is known of the spread | studies that claim any where none is | that part alike "
        "setups where others differ | found: 1 K and more | 2 K and more | just 1 K, two setups | "
        "intervals cover |"
    )
    print("|:---|---:|---:|---:|---:|---:|---:|")
    kinds: dict[str, dict[str, tuple[float, float]]] = {
        "these runs alone": {},
        "and what rigs usually scatter by": {"usual_spread": (0.5, 4.0)},
        "and 20 earlier repeats of this rig": {"repeatability": (0.0, 20.0)},
    }
    for words, known in kinds.items():
        rng = np.random.default_rng(2)
        claims, parted, covered, one = [], [], [], []
        found: dict[float, list[bool]] = {1.0: [], 2.0: []}
        for _ in range(4 * seeds):
            count = int(rng.integers(2, 7))
            spread = float(rng.uniform(0.3, 0.8))
            given = {
                name: (
                    spread * np.sqrt(rng.chisquare(20) / 20) if not value[0] else value[0],
                    value[1],
                )
                for name, value in known.items()
            }
            for kind in ("alike", "in groups", "apart", "just one"):
                n = 2 if kind == "just one" else count
                true = {
                    "alike": np.zeros(n),
                    "in groups": rng.choice([0.0, 3.0, 6.0], n),
                    "apart": rng.uniform(0, 6, n),
                }.get(kind, np.array([0.0, 1.0]))
                names = [f"setup {k}" for k in range(n)]
                runs = pd.DataFrame(
                    {
                        "setup": np.repeat(names, 3),
                        "value": 50 + np.repeat(true, 3) + rng.normal(0, spread, 3 * n),
                        "standard_error": 0.05,
                    }
                )
                rows = compare_setups(runs, **given).differences
                level = dict(zip(names, true, strict=True))
                truth = rows["setup"].map(level) - rows["versus"].map(level)
                told = rows["distinguishable"].to_numpy(dtype=bool)
                if kind == "alike":
                    claims.append(told.any())
                elif kind == "in groups":
                    if (truth == 0).any():
                        parted.append(told[truth == 0].any())
                elif kind == "apart":
                    covered += list((rows["low"] <= truth) & (truth <= rows["high"]))
                    for size, hits in found.items():
                        hits += list(told[truth.abs() >= size])
                else:
                    one.append(told[0])
        print(
            f"| {words} | {100 * np.mean(claims):.1f} % | {100 * np.mean(parted):.1f} % | "
            f"{100 * np.mean(found[1.0]):.0f} % | {100 * np.mean(found[2.0]):.0f} % | "
            f"{100 * np.mean(one):.0f} % | {100 * np.mean(covered):.1f} % |"
        )


# Design -> setups that share their mountings, mountings of each, runs of each setup on each.
DESIGNS = {
    "one mounting a setup, three runs": (1, 1, 3),
    "three mountings a setup, two runs each": (1, 3, 2),
    "two fan curves a cooler, once on each of its three mountings": (2, 3, 1),
    "every setup once on each of three mountings": (4, 3, 1),
}


def mountings_table(seeds: int) -> None:
    """Print what runs that share mountings claim and find, with the mountings noted and without."""
    print("\n## Differences between setups whose runs share mountings\n")
    print(
        "Four setups; another mounting moves a rise by 0.3 to 0.8 K, runs of one scatter by 0.1 to 0.25 K; "
        "what rigs usually scatter by is told; true levels all alike, or anywhere within 6 K; "
        f"{seeds} studies.\n"
    )
    print(
        "| runs | mountings noted: claim any where none is | intervals cover | found: 1 K and more | "
        "not noted: claim any where none is |\n|:---|---:|---:|---:|---:|"
    )
    for words, (sharing, mountings, repeats) in DESIGNS.items():
        rng = np.random.default_rng(2)
        claims, blind, covered, found = [], [], [], []
        for _ in range(seeds):
            spread, within = rng.uniform(0.3, 0.8), rng.uniform(0.1, 0.25)
            rows = []
            for setup in range(4):
                for mounting in range(mountings):
                    rows += [(setup, f"{setup // sharing} {mounting}")] * repeats
            table = pd.DataFrame(rows, columns=["setup", "mount"])
            moved = {name: rng.normal(0, spread) for name in table["mount"].unique()}
            scatter = table["mount"].map(moved) + rng.normal(0, within, len(table))
            alike = table.assign(value=50 + scatter, standard_error=0.05)
            claims.append(_told(alike).any())
            blind.append(_told(alike.drop(columns="mount")).any())
            true = rng.uniform(0, 6, 4)
            apart = alike.assign(value=alike["value"] + true[table["setup"]])
            pairs = compare_setups(apart, usual_spread=(0.5, 4.0)).differences
            truth = true[pairs["setup"].astype(int)] - true[pairs["versus"].astype(int)]
            covered += list((pairs["low"] <= truth) & (truth <= pairs["high"]))
            found += list(pairs["distinguishable"][np.abs(truth) >= 1])
        print(
            f"| {words} | {100 * np.mean(claims):.1f} % | {100 * np.mean(covered):.1f} % | "
            f"{100 * np.mean(found):.0f} % | {100 * np.mean(blind):.0f} % |"
        )


def _told(runs: pd.DataFrame) -> "pd.Series[bool]":
    return compare_setups(runs, usual_spread=(0.5, 4.0)).differences["distinguishable"]


def rooms_table(seeds: int) -> None:
    """Print what rooms of different warmth do to verdicts, allowed for and not."""
    print("\n## Differences between setups in rooms of different warmth\n")
    print(
        "Two to six setups, three runs each, spread 0.3 to 0.8 K; a rise changes by so much with each "
        "kelvin of the room; rooms lie within 4 K of 22 °C, or each setup has a day of its own within 2 K "
        "of it; "
        f"true levels all alike, or anywhere within 6 K; {2 * seeds} studies of each kind.\n"
    )
    print(
        "| rooms | for each K of the room | claim any where none is | intervals cover | found: 1 K and "
        "more | as if rooms were alike: claim any | cover | found |\n"
        "|:---|:---|---:|---:|---:|---:|---:|---:|"
    )
    for words, day in (("of every run", False), ("of every setup", True)):
        for name, slopes in (
            ("nothing", (0.0,)), ("-0.22 K", (-0.22,)), ("-0.22 to +0.15 K", (-0.22, -0.1, 0.0, 0.15)),
        ):  # fmt: skip
            cells = []
            for effect in (RoomEffect.USUAL, None):
                rng = np.random.default_rng(2)
                claims, covered, found = [], [], []
                for number in range(4 * seeds):
                    count, spread = int(rng.integers(2, 7)), rng.uniform(0.3, 0.8)
                    alike = number % 2 == 0
                    true = np.zeros(count) if alike else rng.uniform(0, 6, count)
                    setup = np.repeat(np.arange(count), 3)
                    room = rng.uniform(-4, 4, setup.size)
                    if day:
                        room = rng.uniform(-2, 2, count)[setup] + rng.uniform(-0.7, 0.7, setup.size)
                    value = 50 + true[setup] + rng.choice(slopes) * room
                    value += rng.normal(0, spread, setup.size)
                    runs = pd.DataFrame({"setup": setup, "value": value, "room_c": 22 + room})
                    pairs = compare_setups(
                        runs.assign(standard_error=0.1), usual_spread=(0.5, 4.0), room_effect=effect
                    ).differences
                    truth = true[pairs["setup"].astype(int)] - true[pairs["versus"].astype(int)]
                    if alike:
                        claims.append(pairs["distinguishable"].any())
                    covered += list((pairs["low"] <= truth) & (truth <= pairs["high"]))
                    found += list(pairs["distinguishable"][np.abs(truth) >= 1])
                cells.append(
                    f"{100 * np.mean(claims):.1f} % | {100 * np.mean(covered):.1f} % | "
                    f"{100 * np.mean(found):.0f} %"
                )
            print(f"| {words} | {name} | {' | '.join(cells)} |")


# On which day each run of each setup was made.
DAY_OF = {
    "every setup on every day": lambda setup, repeat: repeat,
    "days that overlap": lambda setup, repeat: (setup + repeat) // 2,
    "a day for each run": lambda setup, repeat: 100 * setup + repeat,
    "a day for each setup": lambda setup, repeat: setup,
}


def days_study(job: tuple[str, float, int]) -> dict[str, float]:
    """Compare two to twelve setups of three runs each; every other study has no differences."""
    kind, day_k, seed = job
    rng = np.random.default_rng(seed)
    count, spread = int(rng.choice([2, 4, 6, 12])), rng.choice([0.1, 0.3, 0.5, 1.0])
    true = np.zeros(count) if seed % 2 == 0 else rng.uniform(0, 6, count)
    setup, repeat = np.repeat(np.arange(count), 3), np.tile(np.arange(3), count)
    day = DAY_OF[kind](setup, repeat)
    value = 50 + true[setup] + rng.normal(0, day_k, 1300)[day] + rng.normal(0, spread, setup.size)
    runs = pd.DataFrame({"setup": setup, "value": value, "day": [f"day {d}" for d in day]})
    pairs = compare_setups(runs, usual_spread=Spread.USUAL_K, day_spread=Days.BETWEEN_K).differences
    truth = true[pairs["setup"].astype(int)] - true[pairs["versus"].astype(int)]
    low, high = pairs["low"].to_numpy(dtype=float), pairs["high"].to_numpy(dtype=float)
    return {
        "claims": float(pairs["distinguishable"].any()) if seed % 2 == 0 else np.nan,
        "covered": float(np.all((low <= truth) & (truth <= high))),
        "found": float(np.mean(pairs["distinguishable"][np.abs(truth) >= 1]))
        if seed % 2
        else np.nan,
    }


def days_table(seeds: int) -> None:
    """Print what days that move all of their runs do to verdicts."""
    print("\n## Runs of several days\n")
    print(
        "| runs | a day moves its runs by | claim any where none is | cover all differences | found: 1 K "
        "and more |\n|:---|---:|---:|---:|---:|"
    )
    for kind in DAY_OF:
        for day_k in (0.0, 0.4, 1.0):
            with process_pool() as pool:
                jobs = [(kind, day_k, seed) for seed in range(2 * seeds)]
                seen = pd.DataFrame(list(pool.map(days_study, jobs, chunksize=8)))
            means = 100 * seen.mean()
            print(
                f"| {kind} | {day_k:.1f} K | {means['claims']:.1f} % | {means['covered']:.1f} % | "
                f"{means['found']:.0f} % |"
            )


# What runs of each of so many setups scatter by, drawn anew for each study.
SPREADS = {
    "0.3 to 0.8 K, one for all": lambda rng, count: np.full(count, rng.uniform(0.3, 0.8)),
    "0.3 to 0.8 K, each its own": lambda rng, count: rng.uniform(0.3, 0.8, count),
    "one 0.8 K, the others 0.4 K": lambda _, count: np.where(np.arange(count) == 0, 0.8, 0.4),
    "one 1.0 K, the others 0.33 K": lambda _, count: np.where(np.arange(count) == 0, 1.0, 0.33),
}


def spread_study(job: tuple[str, int]) -> dict[str, float]:
    """Compare two to six setups with spreads of their own; every other study has no differences."""
    kind, seed = job
    rng = np.random.default_rng(seed)
    count = int(rng.integers(2, 7))
    spreads = SPREADS[kind](rng, count)
    alike = seed % 2 == 0
    true = np.zeros(count) if alike else rng.uniform(0, 6, count)
    setup = np.repeat(np.arange(count), 3)
    value = 50 + true[setup] + spreads[setup] * rng.standard_normal(setup.size)
    runs = pd.DataFrame({"setup": setup, "value": value, "standard_error": 0.1})
    pairs = compare_setups(runs, usual_spread=(0.5, 4.0)).differences
    truth = true[pairs["setup"].astype(int)] - true[pairs["versus"].astype(int)]
    covered = (pairs["low"] <= truth) & (truth <= pairs["high"])
    of_first = (pairs["setup"] == "0") | (pairs["versus"] == "0")
    large = np.abs(truth) >= 1
    return {
        "claims": float(pairs["distinguishable"].any()) if alike else np.nan,
        "covered": covered.mean(),
        "covered of the first": covered[of_first].mean(),
        "found": pairs["distinguishable"][large].mean() if large.any() else np.nan,
    }


def spreads_table(seeds: int) -> None:
    """Print what setups that scatter unequally do to verdicts that rest on a common spread."""
    print("\n## Setups that scatter unequally\n")
    print(
        "Two to six setups, three runs each; what rigs usually scatter by is told; true levels all alike, "
        f"or anywhere within 6 K; {4 * seeds} studies of each kind, every other one alike.\n"
    )
    print(
        "| runs of a setup scatter by | claim any where none is | intervals cover | those of the first "
        "setup | found: 1 K and more |\n|:---|---:|---:|---:|---:|"
    )
    with process_pool() as pool:
        for kind in SPREADS:
            jobs = [(kind, seed) for seed in range(4 * seeds)]
            means = 100 * pd.DataFrame(pool.map(spread_study, jobs, chunksize=16)).mean()
            print(
                f"| {kind} | {means['claims']:.1f} % | {means['covered']:.1f} % | "
                f"{means['covered of the first']:.1f} % | {means['found']:.0f} % |",
                flush=True,
            )


def effects_study(job: tuple[str, int]) -> dict[str, float]:
    """Find the effects of two factors, of which the second moves a rise by 3 K; the first may, too."""
    kind, seed = job
    rng = np.random.default_rng(seed)
    levels, repeats = int(rng.choice([2, 3])), int(rng.choice([2, 3]))
    first = np.zeros(levels) if kind == "none" else rng.uniform(0, 5, levels)
    more = rng.uniform(1, 4) if kind == "depends on the other factor" else 0.0
    true = first[:, None] + np.array([0.0, 3.0]) + more * np.outer(first > 2, [0, 1])
    a, b, _ = np.indices((levels, 2, repeats)).reshape(3, -1)
    value = 50 + true[a, b] + rng.choice([0.1, 0.4, 1.0]) * rng.standard_normal(a.size)
    runs = pd.DataFrame({"a": a, "b": b, "value": value, "standard_error": 0.1}).astype(
        {"a": str, "b": str}
    )
    found = factor_effects(runs, ["a", "b"], usual_spread=Spread.USUAL_K)
    covered = []
    for row in found.main[found.main["factor"] == "a"].itertuples():
        cells = true[int(row.level)] - true[int(row.versus)]
        wanted = cells if row.depends else [cells.mean()]
        covered.append(min(wanted) >= row.low and max(wanted) <= row.high)
    main = found.main.loc[found.main["factor"] == "a", "distinguishable"]
    return {
        "claims": float(main.any()) if kind == "none" else np.nan,
        "depends": float(found.interactions["distinguishable"].any()),
        "covered": float(all(covered)),
    }


def effects_table(seeds: int) -> None:
    """Print how often effects are told where there are none, and how often intervals hold them."""
    print("\n## Effects of factors\n")
    print(
        "| what the first factor does | claim any effect where none is | say that it depends on the "
        "other | "
        "intervals cover all of its effects |\n|:---|---:|---:|---:|"
    )
    for kind in ("none", "the same everywhere", "depends on the other factor"):
        with process_pool() as pool:
            jobs = [(kind, seed) for seed in range(seeds)]
            seen = pd.DataFrame(list(pool.map(effects_study, jobs, chunksize=8)))
        means = 100 * seen.mean()
        claims = "" if np.isnan(means["claims"]) else f"{means['claims']:.1f} %"
        print(f"| {kind} | {claims} | {means['depends']:.1f} % | {means['covered']:.1f} % |")
