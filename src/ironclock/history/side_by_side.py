"""Two histories side by side, in words: equal lines are left out, and the first difference is marked."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from difflib import SequenceMatcher
from itertools import zip_longest

from .history import History
from .narrative import described

_LONGEST = 600
"""How many lines of each history are compared after the first difference."""


def side_by_side(
    before: History, after: History, names: tuple[str, str], *, width: int = 118, most: int = 30
) -> str:  # fmt: skip
    """Return what differs between two histories, one beside the other.

    A line is alike in both if it says the same, at whatever instant. One line that is alike is shown before, and one
    after each difference.

    Parameters: `names` are the heads of the two columns, `width` how many columns of text there are in all, and `most`
    how many lines are shown. Empty if nothing differs.
    """
    first, second = described(before), described(after)
    alike = 0
    while alike < min(len(first), len(second)) and first[alike][1] == second[alike][1]:
        alike += 1
    if alike == len(first) == len(second):
        return ""
    rows = list(_rows(first[alike:][:_LONGEST], second[alike:][:_LONGEST]))
    clock = max((len(time) for time, _ in (*first, *second)), default=0)
    half = (width - clock - 7) // 2

    def row(mark: str, time: str, left: str, right: str) -> None:
        cells = [textwrap.wrap(text, half, subsequent_indent="  ") or [""] for text in (left, right)]
        for one, other in zip_longest(*cells, fillvalue=""):
            lines.append(f"{mark} {time:{clock}}  {one:{half}} | {other}".rstrip())
            mark = " "
            time = ""

    lines: list[str] = []
    row(" ", "", *names)
    if alike > 1:
        row(" ", "", "(1 line alike)" if alike == 2 else f"({alike - 1} lines alike)", "")
    if alike:
        rows.insert(0, (first[alike - 1], second[alike - 1]))
    marked = False
    for shown, (one, other) in enumerate(rows):
        if shown == most:
            row(" ", "", "...", "...")
            break
        if one is None and other is None:
            row(" ", "", "(lines alike)", "")
            continue
        differs = one is None or other is None or one[1] != other[1]
        time = one[0] if one is not None else other[0] if other is not None else ""
        right = "" if other is None else other[1] if other[0] == time else f"{other[0]} {other[1]}"
        row(">" if differs and not marked else " ", time, "" if one is None else one[1], right)
        marked = marked or differs
    return "\n".join(lines)


Line = tuple[str, str]
"""The time of day of an entry, and the entry in words."""


def _rows(first: list[Line], second: list[Line]) -> Iterator[tuple[Line | None, Line | None]]:
    """Yield pairs of lines, side by side. None: that side is empty. Two of them: more equal lines follow."""
    matcher = SequenceMatcher(None, [line[1] for line in first], [line[1] for line in second], autojunk=False)
    for kind, a, b, c, d in matcher.get_opcodes():
        if kind == "equal":
            pairs = list(zip(first[a:b], second[c:d], strict=True))
            if len(pairs) > 2:
                yield pairs[0]
                yield None, None
                if b < len(first) or d < len(second):  # another difference follows
                    yield pairs[-1]
            else:
                yield from pairs
            continue
        for number in range(max(b - a, d - c)):
            yield (
                first[a + number] if a + number < b else None,
                second[c + number] if c + number < d else None,
            )
