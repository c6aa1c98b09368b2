"""Findings: what a search found, told so that a person believes it and a test repeats it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from os import PathLike
from typing import Any, overload

from ..core.errors import IronClockError
from ..core.laws import Breach, BrokenLaw, told
from ..steering.plan import Plan
from ..steering.token import Token
from .coverage import Coverage
from .trial import STORY, Trial


@dataclass(frozen=True)
class Finding:
    """One law that the search found broken.

    `law` is its name and `words` what is wrong; `moves` what has to go wrong for it, as small as shrinking made it
    (empty: nothing at all); `token` repeats it; `story` is the whole run in words; `at_run` and `shrunk_in` say after
    how many runs it was found, and how many shrinking took; `also` how many other plans broke the same law.
    """

    law: str
    words: str
    moves: tuple[str, ...]
    token: str
    story: str
    proof: str
    plan: Plan = field(repr=False)
    digest: str = field(repr=False)
    at_run: int = 0
    shrunk_in: int = 0
    also: int = 0

    def __str__(self) -> str:
        lines = [f"{self.law}: {self.words}"]
        if self.moves:
            lines += ["  when", *(f"    {move}" for move in self.moves)]
        else:
            lines.append("  with nothing going wrong at all")
        if self.plan.kept is not None:
            lines.append(f"  (of all that the story enqueues, {_listed(self.plan.kept) or 'nothing'} is enough)")
        lines += ["  the shortest story that shows it", *(f"    {line}" for line in self.story.splitlines())]
        if self.proof:
            lines += ["  which proves", *(f"  {line}" for line in self.proof.splitlines()[1:])]
        found = f"  found in run {self.at_run}, shrunk in {self.shrunk_in} more"
        lines.append(found + (f"; {self.also} other plans break it as well" if self.also else ""))
        lines.append(f"  replay: {self.token}")
        return "\n".join(lines)

    def write_test(
        self, path: str | PathLike[str], story: str, *, laws: str = "", rig: Mapping[str, Any] | None = None
    ) -> None:
        """Write a pytest file that repeats this finding. See `as_test`. Raises `IronClockError`."""
        try:
            with open(path, "w", encoding="utf-8") as file:
                file.write(as_test(self, story, laws, rig))
        except OSError as error:
            raise IronClockError(f"cannot write {path}: {error.strerror}") from None


class Findings(Sequence[Finding]):
    """What a search found, one finding a law, and how far it came (`coverage`). Nothing found is false."""

    def __init__(self, findings: Sequence[Finding], coverage: Coverage) -> None:
        self._findings = tuple(findings)
        self.coverage = coverage

    @overload
    def __getitem__(self, index: int) -> Finding: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Finding]: ...
    def __getitem__(self, index: int | slice) -> Finding | Sequence[Finding]:
        return self._findings[index]

    def __len__(self) -> int:
        return len(self._findings)

    def check(self) -> None:
        """Raise `BrokenLaw` with every finding, where there is one."""
        if self._findings:
            breaches = [Breach(one.words, law=one.law) for one in self._findings]
            raise BrokenLaw(f"the probe found broken laws:\n{self}", breaches)

    def __str__(self) -> str:
        found = "\n\n".join(map(str, self._findings)) or "nothing found"
        return f"{found}\n\n{self.coverage}"

    __repr__ = __str__


def tell(trial: Trial, plan: Plan, law: str, errors: Mapping[str, str], **figures: int) -> Finding | None:
    """Run a plan once more and tell what it shows; None where the law holds this time."""
    from ..steering.token import marks_of

    rig, steering, ended = trial.play(plan)
    breaches, _ = trial.judge(rig, plan, ended)
    breach = next((one for one in breaches if one.law == law), None)
    if breach is None:
        rig.let_go()
        return None
    plan = Plan(tuple(move for move in steering.done if move in plan.moves), plan.start, plan.kept)
    token = Token(plan, trial.lines, errors, *marks_of(rig.history))
    made = Finding(
        law, breach.words, tuple(plan.describe()), token.text(), rig.history.story(),
        told(breach, rig.history) if breach.proof else "", plan, rig.history.digest(), **figures,
    )  # fmt: skip
    rig.let_go()
    return made


def as_test(
    finding: Finding, story: str, laws: str = "", world: Mapping[str, Any] | None = None, folder: str = ""
) -> str:
    """Return the text of a pytest file that repeats a finding, and fails for as long as the law is broken.

    Parameters: `story` as ``module:function``; `laws` the name of the laws in that module (empty: none there);
    `world` the arguments of the rig; `folder` where the module is, unless tests can import it as it is.
    """
    module, _, function = story.partition(":")
    given = ", ".join(f"{name}={value!r}" for name, value in (world or {}).items())
    names = ", ".join(sorted({name.partition(".")[0] for name in (laws, function) if name}, key=str.lower))
    moves = "\n".join(f"    {line}" for line in finding.moves) or "    nothing goes wrong at all"
    held = ""
    if finding.law in _OWN:
        held = f"    rig.check(ic.laws.{finding.law}())\n"
    elif laws and finding.law != STORY:
        held = f"    rig.check(*{laws})\n"
    path = f"import sys\n\nsys.path.insert(0, {folder!r})\n\n" if folder else ""
    return f'''"""Found by the probe: {_in_docstring(finding.law)}: {_in_docstring(finding.words)}

It happens when
{_in_docstring(moves)}
"""

{path}import ironclock as ic
from {module} import {names}


def test_{_identifier(finding.law)}_in_{_identifier(function)}():
    rig = ic.Rig({given})
    rig.replay({finding.token!r})
    with rig:
        {function}(rig)
{held}'''


_OWN = ("nothing_lost", "no_deadlock")  # the laws that a search checks although nobody named them


def _identifier(text: str) -> str:
    return "".join(c if c.isalnum() and c.isascii() else "_" for c in text.lower()).strip("_")


def _in_docstring(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"""', "'''")


def _listed(names: Sequence[str]) -> str:
    return ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")
