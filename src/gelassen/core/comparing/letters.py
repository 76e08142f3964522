"""Letters: setups that share one cannot be told apart (compact letter display)."""

from collections.abc import Collection, Sequence

from gelassen.core.comparing.priors import Comparison


def letters(names: Sequence[str], told_apart: Collection[frozenset[str]]) -> list[str]:
    """Return the letters of each setup, in the order of the names.

    Two setups share a letter if and only if they are not told apart, also where that is not a matter of
    neighbours, as with unlike numbers of runs.

    References
    ----------
    .. [1] H.-P. Piepho, J. Comput. Graph. Stat. 13, 456 (2004): insert and absorb.
    """
    columns: list[frozenset[str]] = [frozenset(names)]
    for pair in sorted(told_apart, key=sorted):
        first, second = sorted(pair, key=list(names).index)
        split: list[frozenset[str]] = []
        for column in columns:
            both = first in column and second in column
            split += [column - {first}, column - {second}] if both else [column]
        columns = [c for c in dict.fromkeys(split) if not any(c < other for other in split)]
        if len(columns) > Comparison.MOST_LETTERS:
            return ["" for _ in names]
    place = {name: k for k, name in enumerate(names)}
    columns.sort(key=lambda column: sorted(place[name] for name in column))
    return ["".join(_letter(k) for k, c in enumerate(columns) if name in c) for name in names]


def _letter(number: int) -> str:
    turn, place = divmod(number, 26)
    return chr(ord("a") + place) * (turn + 1)
