"""The fault coverage as one HTML page that needs no other file."""

from __future__ import annotations

import html
from itertools import groupby
from pathlib import Path

from .fault_coverage import FAILURES, FaultCoverage, Row

_LEGEND = (
    ("tested", "tested", "a test of the suite put it there"),
    ("survived", "survived", "the search put it there, and every law held"),
    ("broken", "broken", "the search put it there, and a law was broken"),
    ("untried", "never", "nobody has put it there"),
)
_OF_SEARCH = ("survived", "broken")


def page(coverage: FaultCoverage, with_search: bool, more: str = "") -> str:
    """Return the page. Every text is escaped, and a policy in the page forbids to fetch anything.

    Parameters: `more` is another part of it, as HTML.
    """
    summary = (
        f"{coverage.covered} of {coverage.fitting} failures were put somewhere by the suite"
        f"{' or by the search' if with_search else ''}: {coverage.percent:.1f} %"
    )
    shown = [one for one in _LEGEND if with_search or one[0] not in _OF_SEARCH]
    legend = "".join(f'<div><dt class="{state}">{word}</dt> <dd>{about}</dd></div>' for state, word, about in shown)
    heads = "".join(f'<th scope="col">{failure}</th>' for failure in FAILURES)
    bodies = []
    for kind, rows in groupby(coverage.rows, key=lambda row: row.kind):
        head = f'<tr><th scope="rowgroup" colspan="{len(FAILURES) + 1}">{kind}s</th></tr>'
        bodies.append(f'<tbody class="kind">{head}{"".join(map(_row, rows))}</tbody>')
    template = (Path(__file__).parent / "fault_coverage.html").read_text(encoding="utf-8")
    return template % {"summary": summary, "legend": legend, "heads": heads, "body": "\n".join(bodies), "more": more}


def _row(row: Row) -> str:
    cells = "".join(_cell(row, failure) for failure in FAILURES)
    return f'<tr><th scope="row">{html.escape(row.name)}</th>{cells}</tr>'


def _cell(row: Row, failure: str) -> str:
    state = row.state(failure)
    if state == "does not fit":
        return '<td class="none">&ndash;</td>'
    if state == "untried":
        return '<td class="untried">never</td>'
    cell = row.cells[failure]
    parts = [
        f"<p>{words}</p><ul>{''.join(f'<li>{html.escape(test)}</li>' for test in tests)}</ul>"
        for words, tests in (
            ("put there by", cell.tests), ("survived by", cell.survived), ("a law was broken in", cell.broken)
        )
        if tests
    ]  # fmt: skip
    word = f"{len(cell.tests)} test{'s' * (len(cell.tests) != 1)}" if state == "tested" else state
    return f'<td class="{state}"><details><summary>{word}</summary>{"".join(parts)}</details></td>'
