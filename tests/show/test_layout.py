import pytest
from rich.cells import cell_len

from gelassen.show.layout import bars, fitted_to, wrapped
from gelassen.show.tables import aligned, in_markdown, with_bars

HEADER = ["setup", "rise K", "95 % interval", "difference"]
ROWS = [
    ["Kiesel 92, on-air", "61.2", "60.4 to 61.9", "baseline"],
    ["風 120, off-air", "8.8~", "8.1 to 9.2", "-52.4"],
]


def test_a_table_without_a_terminal_is_as_wide_as_it_is():
    lines = aligned(*with_bars(HEADER, ROWS, [61.2, 8.8])).splitlines()
    assert lines[2] == "Kiesel 92, on-air   61.2   ██████████   60.4 to 61.9    baseline"
    # The wide character takes two cells, a mark moves no decimal point, 8.8 of 61.2 is a cell and a half.
    assert lines[3] == "風 120, off-air      8.8~  █▌             8.1 to 9.2       -52.4"


@pytest.mark.parametrize("width", [30, 40, 50, 60, 70])
def test_a_table_fits_the_terminal_and_loses_no_cell(width):
    with fitted_to(width):
        text = aligned(*with_bars(HEADER, ROWS, [61.2, 8.8]))
    assert max(map(cell_len, text.splitlines())) <= width
    assert all(cell in text for row in (HEADER, *ROWS) for cell in row[1:])
    assert all(word in text for word in ("Kiesel 92", "on-air", "風 120", "off-air"))
    assert aligned(HEADER, ROWS).count("\n") == 3  # the width is forgotten afterwards


def test_bars_give_way_before_the_table_is_divided():
    with fitted_to(59):
        text = aligned(*with_bars(HEADER, ROWS, [61.2, 8.8]))
    assert "█" not in text
    assert "\n\n" not in text
    with in_markdown():
        assert "| setup | rise K | 95 %" in aligned(*with_bars(HEADER, ROWS, [61.2, 8.8]))


def test_bars_begin_at_zero_or_are_left_out():
    assert bars([8.0, 4.0, float("nan"), 0.0]) == ["█" * 10, "█" * 5, "", ""]
    assert bars([5.0, -1.0]) == ["", ""]
    assert bars([float("inf"), 1.0]) == ["", ""]
    assert bars([]) == []


def test_prose_is_no_wider_than_the_terminal_or_a_hundred():
    text = "word " * 60
    assert max(map(len, wrapped(text).splitlines())) == 99
    with fitted_to(40):
        assert max(map(len, wrapped(text).splitlines())) == 39
