"""Two histories side by side, in words: what is alike is left out, and the first difference is marked."""

from __future__ import annotations

import re
from collections.abc import Iterator
from difflib import SequenceMatcher

from .history import History
from .narrative import described

_PARENTHESES = re.compile(r" \([^()]*\)")
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
    half = (width - 5) // 2
    lines = [f"  {names[0]:{half}} | {names[1]}".rstrip()]
    if alike > 1:
        count = "1 line" if alike == 2 else f"{alike - 1} lines"
        lines.append(f"  {f'({count} alike)':{half}} |")
    if alike:
        rows.insert(0, (first[alike - 1], second[alike - 1]))
    shown = 0
    marked = False
    for one, other in rows:
        if shown == most:
            lines.append(f"  {'...':{half}} | ...")
            break
        if one is None and other is None:
            lines.append(f"  {'(lines alike)':{half}} |")
            continue
        differs = one is None or other is None or one[1] != other[1]
        mark = ">" if differs and not marked else " "
        marked = marked or differs
        left, right = (_cut("" if line is None else f"{line[0]}  {line[1]}", half) for line in (one, other))
        lines.append(f"{mark} {left:{half}} | {right}".rstrip())
        shown += 1
    return "\n".join(lines)


Line = tuple[str, str]
"""The time of day of an entry, and the entry in words."""


def _rows(first: list[Line], second: list[Line]) -> Iterator[tuple[Line | None, Line | None]]:
    """Yield lines that stand beside one another. None: there is no such line; two of them: lines that are alike."""
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


def _cut(text: str, width: int) -> str:
    """Shorten a line: first by what stands in parentheses, then in the middle, since its end says how it went."""
    if len(text) > width:
        text = _PARENTHESES.sub("", text)
    end = width * 2 // 5
    return text if len(text) <= width else f"{text[: width - end - 1]}…{text[-end:]}"
