"""The rules of the house that no other checker knows."""

import ast
from pathlib import Path

import pytest

import gelassen

SOURCE = Path(gelassen.__file__).parent
TABLES = ("priors.py", "thresholds.py")
MODULES = sorted(SOURCE.rglob("*.py"))


def functions(path):
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            yield node


def lines_of(function):
    size = function.end_lineno - function.lineno + 1
    if ast.get_docstring(function) is not None:
        text = function.body[0]
        size -= text.end_lineno - text.lineno + 1
    return size


def test_no_function_is_longer_than_a_screen():
    long = {
        f"{path.relative_to(SOURCE)}: {one.name}"
        for path in MODULES
        for one in functions(path)
        if lines_of(one) > 60
    }
    assert not long


def test_no_function_takes_more_than_eight_arguments_by_position():
    many = {
        f"{path.relative_to(SOURCE)}: {one.name}"
        for path in MODULES
        for one in functions(path)
        if len([arg for arg in one.args.args if arg.arg not in ("self", "cls")]) > 8
    }
    assert not many


def test_no_wing_has_more_than_twenty_rooms():
    for folder in {path.parent for path in MODULES}:
        rooms = [path for path in folder.glob("*.py") if path.name != "__init__.py"]
        assert len(rooms) <= 20, folder


@pytest.mark.parametrize(
    "table",
    [path for path in MODULES if path.name in TABLES],
    ids=lambda path: str(path.parent.name),
)
def test_every_constant_in_a_table_is_commented_and_every_group_has_a_source(table):
    source = table.read_text(encoding="utf-8")
    lines, tree = source.splitlines(), ast.parse(source)
    named_once = "Source of all" in ast.get_docstring(tree) or "All come from" in ast.get_docstring(
        tree
    )
    for group in (node for node in tree.body if isinstance(node, ast.ClassDef)):
        words = ast.get_docstring(group)
        own = any(
            word in words for word in ("Source", "Numerical", "Physics", "How the fit searches")
        )
        assert named_once or own, group.name
        for number in (node for node in group.body if isinstance(node, ast.Assign)):
            above = lines[number.lineno - 2].strip().startswith("#")
            assert above or "#" in lines[number.end_lineno - 1], ast.unparse(number)
