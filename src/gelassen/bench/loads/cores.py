"""Which logical processors a load uses: some, all, or one kind where cores differ."""

import os
import re
import sys
from pathlib import Path

from gelassen.bench.sensors.cpu import cores, processors
from gelassen.bench.sensors.identity import text_of
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest


def available_cores(sys_root: Path = Path("/sys")) -> list[int]:
    """Return the logical processors this process may use; one of each core before second threads."""
    if not sys.platform.startswith("linux"):
        return list(range(os.cpu_count() or 1))
    allowed = os.sched_getaffinity(0)
    threads = [[int(folder.name[3:]) for folder in found] for found in cores(sys_root).values()]
    longest = max(map(len, threads), default=0)
    ordered = [t[rank] for rank in range(longest) for t in threads if len(t) > rank]
    found = [number for number in ordered if number in allowed]
    return found + sorted(allowed - set(found))


def core_kinds(sys_root: Path = Path("/sys")) -> dict[str, list[int]]:
    """Return the kinds of cores and their logical processors; empty where all are alike."""
    kinds = {}
    for kind, unit in (("performance", "cpu_core"), ("efficiency", "cpu_atom")):
        text = text_of(sys_root / "devices" / unit / "cpus")
        if text:
            kinds[kind] = numbers(text)
    if kinds:
        return kinds
    capacity: dict[int, list[int]] = {}
    for folder in processors(sys_root):
        text = text_of(folder / "cpu_capacity")
        if text and text.isdigit():
            capacity.setdefault(int(text), []).append(int(folder.name[3:]))
    if len(capacity) < 2:
        return {}
    strongest = max(capacity)
    return {
        "performance": capacity[strongest],
        "efficiency": sorted(n for c, found in capacity.items() if c < strongest for n in found),
    }


def cores_for(workers: int | None, which: str | None = None) -> list[int]:
    """Return the logical processors for this many workers; all if not given.

    Parameters
    ----------
    workers
        How many; each gets a processor of its own.
    which
        Numbers such as "0-3,6", or a kind: "performance", "efficiency".

    Raises
    ------
    InputError
        More than there are, or an unknown kind or number.
    """
    found = available_cores()
    if which:
        wanted = _named(which)
        missing = [number for number in wanted if number not in found]
        if missing:
            raise InputError(
                f"processor {missing[0]} cannot be used; available are {_short(sorted(found))}"
            )
        found = wanted
    if workers is not None and not 1 <= workers <= len(found):
        raise InputError(f"{workers} workers asked for; 1 to {len(found)} are possible here")
    return found[:workers] if workers else found


def _named(which: str) -> list[int]:
    kinds = core_kinds()
    if which in kinds:
        return kinds[which]
    if not re.fullmatch(r"\s*\d+(-\d+)?(\s*,\s*\d+(-\d+)?)*\s*", which):
        known = ", ".join(kinds) or "all are alike here"
        raise InputError(
            f'"{which}" names no cores: write numbers such as 0-3,6, or a kind ({known}).'
            + nearest(which, kinds)
        )
    return numbers(which)


def numbers(text: str) -> list[int]:
    """Return the numbers of a list as the kernel writes it: "0-3,6"."""
    found: list[int] = []
    for part in text.split(","):
        first, _, last = part.strip().partition("-")
        found.extend(range(int(first), int(last or first) + 1))
    return found


def _short(found: list[int]) -> str:
    """Return a list of numbers as the kernel writes it."""
    parts: list[list[int]] = []
    for number in found:
        if parts and number == parts[-1][-1] + 1:
            parts[-1].append(number)
        else:
            parts.append([number])
    return ",".join(f"{p[0]}-{p[-1]}" if len(p) > 1 else str(p[0]) for p in parts)
