"""The layers of docs/design.md: every module imports only from its own layer and from those below it."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
PACKAGE = ROOT / "src" / "ironclock"
ABOVE_ITS_LAYER = {("rig", "search")}  # Rig.replay, when it is called


def layers() -> dict[str, int]:
    """The height of each part, read from the picture in the page: the lowest is 0."""
    picture = (ROOT / "docs" / "design.md").read_text(encoding="utf-8").split("```")[1]
    rows = [re.split(r" {3,}", row.strip()) for row in picture.strip().split("\n") if "---" not in row]
    return {part.strip("/"): height for height, row in enumerate(reversed(rows)) for part in _parts(row)}


def _parts(row: list[str]) -> Iterator[str]:
    for column in row[:-1]:
        yield from column.split()


def imported(path: Path) -> Iterator[str]:
    """The parts of the package from which a module imports, in functions and for types as well."""
    package = path.relative_to(PACKAGE).parts[:-1]
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.level:
            base = package[: len(package) - node.level + 1]
            rest = node.module.split(".") if node.module else [alias.name for alias in node.names]
            yield (*base, *rest)[0]


def test_the_picture_has_every_part() -> None:
    parts = {p.relative_to(PACKAGE).parts[0].removesuffix(".py") for p in PACKAGE.rglob("*.py")}
    assert set(layers()) == parts - {"__init__"}


@pytest.mark.parametrize("part", sorted(layers()))
def test_imports_go_down(part: str) -> None:
    height = layers()
    files = sorted((PACKAGE / part).rglob("*.py")) or [PACKAGE / f"{part}.py"]
    upwards = {(part, other) for file in files for other in imported(file) if height[other] > height[part]}
    assert upwards <= ABOVE_ITS_LAYER
