"""What the tests notice, as a part of the page of the fault coverage."""

from __future__ import annotations

import html
from itertools import groupby

from .notice_report import summary
from .outcomes import Asked, Tried

_WORDS = {"noticed": "tested", "unnoticed": "untried", "the same": "none", "not tried": "none"}
# The class of the page for each state.


def notice_part(asked: Asked) -> str:
    """Return the part of the page, as HTML. Every text is escaped."""
    *lines, last = summary(asked)
    bodies = []
    for kind, changes in groupby(asked.ordered(), key=lambda one: one.kind):
        head = f'<tr><th scope="rowgroup" colspan="3">{kind}{"s" * (kind != "code")}</th></tr>'
        bodies.append(f'<tbody class="kind">{head}{"".join(map(_row, changes))}</tbody>')
    table = (
        '<div class="wide"><table><caption hidden>Which changes were noticed</caption><thead><tr>'
        '<th scope="col">what</th><th scope="col">change</th><th scope="col">noticed by</th></tr></thead>'
        f"{''.join(bodies)}</table></div>"
    )
    told = "".join(f'<p class="soft">{html.escape(line)}</p>' for line in lines)
    return f"<h2>Would the tests notice?</h2><p>{html.escape(last)}</p>{told}{table}"


def _row(one: Tried) -> str:
    what = f'<th scope="row">{html.escape(one.name)}</th><td>{html.escape(one.words)}</td>'
    word = html.escape(
        one.noticed_by.rpartition("::")[2]
        or ("meant" if one.reason else "nobody" if one.state == "unnoticed" else one.state)
    )
    parts = [
        ("without it", one.before), ("with it", one.after), ("how", one.how), ("why nobody", one.why),
        ("noticed by", one.noticed_by), ("meant", one.reason),
        *zip(("the history was", "and is"), one.difference, strict=False),
        ("this test notices it", one.test_to_add), ("asked", "\n".join(one.tests)),
    ]  # fmt: skip
    more = "".join(f"<p>{name}</p><pre>{html.escape(text)}</pre>" for name, text in parts if text)
    state = "survived" if one.reason else _WORDS[one.state]
    return f'<tr>{what}<td class="{state}"><details><summary>{word}</summary>{more}</details></td></tr>'
