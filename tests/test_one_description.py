"""The fields of a move are written down once."""

from __future__ import annotations

import ast
from pathlib import Path

from mivlo.core.moves import StaticMove
from mivlo.description import ENTRY_FIELDS, move_fields

SOURCE = Path(__file__).parents[1] / "src" / "mivlo"
TELLING = set(move_fields(StaticMove)) - {"mode"}
ENOUGH = 3
"""So many names of fields in one list, mapping or class make it a second list of them."""


def _names(node: ast.AST) -> set[str]:
    """The words that a list, a mapping, a call or a class writes out itself."""
    if isinstance(node, ast.List | ast.Tuple | ast.Set):
        return {e.value for e in node.elts if isinstance(e, ast.Constant) and isinstance(e.value, str)}
    if isinstance(node, ast.Dict):
        return {k.value for k in node.keys if isinstance(k, ast.Constant) and isinstance(k.value, str)}
    if isinstance(node, ast.ClassDef):
        return {n.target.id for n in node.body if isinstance(n, ast.AnnAssign) and isinstance(n.target, ast.Name)}
    return set()


def _lists(path: Path, of: set[str], enough: int) -> list[str]:
    tree = ast.parse(path.read_text())
    return [f"{path.name}:{n.lineno}" for n in ast.walk(tree) if len(_names(n) & of) >= enough]  # type: ignore[attr-defined]


def _files() -> list[Path]:
    # what the demo plants into its tracks is no move
    skipped = (SOURCE / "core" / "moves", SOURCE / "store" / "migrations", SOURCE / "demo")
    return [p for p in SOURCE.rglob("*.py") if not any(p.is_relative_to(s) for s in skipped)]


def test_no_second_list_of_a_moves_fields_stands_outside_of_its_type() -> None:
    found = [where for path in _files() for where in _lists(path, TELLING, ENOUGH)]
    assert found == []


def test_an_entrys_fields_stand_in_its_type_and_in_the_table() -> None:
    found = {where.split(":")[0] for path in _files() for where in _lists(path, set(ENTRY_FIELDS), 4)}
    assert found == {"models.py"}


def test_the_measure_sees_the_list_where_it_belongs() -> None:
    assert _lists(SOURCE / "core" / "moves" / "static.py", TELLING, ENOUGH)


def test_the_core_opens_no_file() -> None:
    opened = [
        f"{path.name}:{node.lineno}"
        for path in (SOURCE / "core").rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "open"
    ]
    assert opened == []  # its weights come through importlib.resources
