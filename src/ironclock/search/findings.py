"""Findings: what a search found, with its proof, and a test that repeats it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from os import PathLike
from typing import Any, overload

from ..errors import IronClockError
from ..history.history import History
from ..history.side_by_side import side_by_side
from ..interpreter.border.call_seams import checked_seams
from ..laws.law import Breach, BrokenLaw, told
from .coverage import Coverage
from .plan import Plan
from .replay_token import Token
from .runs import STORY, Played, SearchedStory, silence


@dataclass(frozen=True)
class Finding:
    """One law that a search found broken. `Findings` holds them."""

    law: str
    """The name of the law."""
    words: str
    """What is wrong."""
    moves: tuple[str, ...]
    """What must go wrong for it, in words, as small as shrinking made it. Empty: nothing."""
    token: str
    """The replay token that repeats it: `Rig.replay`."""
    story: str
    """What happened in the run, in words."""
    proof: str
    """The entries that prove it, in words."""
    comparison: str
    """The run beside the same run without the moves: what differs. Empty if there are no moves."""
    plan: Plan = field(repr=False)
    digest: str = field(repr=False)
    at_run: int = 0
    """In which run it was found."""
    shrunk_in: int = 0
    """How many runs shrinking has made."""
    also: int = 0
    """How many other plans broke the same law."""

    def __str__(self) -> str:
        lines = [f"{self.law}: {self.words}"]
        if self.moves:
            lines += ["  when", *(f"    {move}" for move in self.moves)]
        else:
            lines.append("  although nothing goes wrong")
        if self.plan.kept is not None:
            lines.append(f"  (of all that the story enqueues, {_listed(self.plan.kept) or 'nothing'} is enough)")
        story = self.story.splitlines()
        if len(story) <= _SHORT or not self.comparison:
            lines += ["  the shortest story that shows it", *(f"    {line}" for line in _cut(story))]
        else:
            lines += [
                "  what differs from the run without it",
                *(f"    {line}" for line in self.comparison.splitlines()),
            ]
            lines.append(f"  (the whole story has {len(story)} lines: the attribute `story`, or --replay)")
        if self.proof:
            lines += ["  what proves it", *(f"  {line}" for line in self.proof.splitlines()[1:])]
        found = f"  found in run {self.at_run}, shrunk in {self.shrunk_in} more"
        others = "1 other plan breaks" if self.also == 1 else f"{self.also} other plans break"
        lines.append(found + (f"; {others} it as well" if self.also else ""))
        lines.append(f"  replay: {self.token}")
        return "\n".join(lines)

    def write_test(
        self, path: str | PathLike[str], story: str, *, laws: str = "", rig: Mapping[str, Any] | None = None
    ) -> None:
        """Write a pytest file that repeats this finding.

        Parameters: `path` is the file; `story` is ``module:function``; `laws` the name of the laws in that module,
        default: none there; `rig` the arguments of the rig. Raises `IronClockError` if the file cannot be written.
        """
        try:
            with open(path, "w", encoding="utf-8") as file:
                file.write(as_test(self, story, laws, rig))
        except OSError as error:
            raise IronClockError(f"cannot write {path}: {error.strerror}") from None


class Findings(Sequence[Finding]):
    """What a search found: one `Finding` for each broken law, and how far the search came. Empty if nothing was found.

    Example::

        findings = ic.probe(story, [ic.laws.once_per_key("bank.post")])
        assert not findings, findings
    """

    def __init__(self, findings: Sequence[Finding], coverage: Coverage) -> None:
        self._findings = tuple(findings)
        self.coverage = coverage
        """What was tried, and what was not."""

    @overload
    def __getitem__(self, index: int) -> Finding: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Finding]: ...
    def __getitem__(self, index: int | slice) -> Finding | Sequence[Finding]:
        return self._findings[index]

    def __len__(self) -> int:
        return len(self._findings)

    def check(self) -> None:
        """Raise `BrokenLaw` with every finding, if there is one.

        Example::

            def story(rig):
                rig.enqueue(rig.job(submit_manifest).call("TL-204"))
                rig.run_dry()

            ic.probe(story, ic.laws.nothing_lost(), runs=20).check()
        """
        if self._findings:
            breaches = [Breach(one.words, law=one.law) for one in self._findings]
            raise BrokenLaw(f"the probe found broken laws:\n{self}", breaches)

    def __str__(self) -> str:
        found = "\n\n".join(map(str, self._findings)) or "nothing found"
        return f"{found}\n\n{self.coverage}"

    __repr__ = __str__


def finding_of(
    searched: SearchedStory, plan: Plan, law: str, errors: Mapping[str, str], **figures: int
) -> Finding | None:
    """Run a plan once more and return what it shows. None if the law holds this time."""
    with silence:
        return _finding_of(searched, plan, law, errors, **figures)


def _finding_of(
    searched: SearchedStory, plan: Plan, law: str, errors: Mapping[str, str], **figures: int
) -> Finding | None:  # fmt: skip
    from .replay_token import marks_of

    with searched.playing(plan, keeps_history=True) as played:
        history = played.rig.history
        marks, story, digest = marks_of(history), history.story(), history.digest()
        breaches, _ = _judged_patiently(searched, played, plan)
        done = played.control.done
    breach = next((one for one in breaches if one.law == law), None)
    if breach is None:
        return None
    plan = Plan(tuple(move for move in done if move in plan.moves), plan.start, plan.kept)
    seams = tuple(sorted(checked_seams(searched.world.get("seams", ()))))
    token = Token(plan, searched.lines, errors, seams, searched.model.amounts.exhausts, *marks)
    return Finding(
        law, breach.words, tuple(plan.describe()), token.text(), story,
        told(breach, history) if breach.proof else "", _compared(searched, plan, history), plan, digest,
        **figures,
    )  # fmt: skip


def _judged_patiently(searched: SearchedStory, played: Played, plan: Plan) -> tuple[list[Breach], str]:
    """Return what is wrong with a run that is going to be told of."""
    ends = searched.ends
    if ends is not None:
        ends.is_patient = True
    try:
        return searched.judge(played.rig, plan, played.ended, played.control)
    finally:
        if ends is not None:
            ends.is_patient = False


_SHORT = 18
"""How many lines a story has at most that is shown as a whole."""

_LONG = 60


def _cut(story: list[str]) -> list[str]:
    """Leave out the middle of a long story that cannot be compared with another one."""
    half = _LONG // 2
    return story if len(story) <= _LONG else [*story[:half], f"  ... {len(story) - _LONG} lines ...", *story[-half:]]


def _compared(searched: SearchedStory, plan: Plan, history: History) -> str:
    """Return the run beside the same run without the moves. Empty if there are none."""
    if not plan.moves:
        return ""
    with searched.playing(replace(plan, moves=()), keeps_history=True) as played:
        without = played.rig.history
    return side_by_side(without, history, ("without it", "with it"))


def as_test(
    finding: Finding, story: str, laws: str = "", world: Mapping[str, Any] | None = None, folder: str = ""
) -> str:
    """Return the text of a pytest file that repeats a finding, and fails as long as the law is broken.

    Parameters: `story` is ``module:function``; `laws` the name of the laws in that module (empty: none there); `world`
    the arguments of the rig; `folder` the folder of the module, if tests cannot import it otherwise.
    """
    module, _, function = story.partition(":")
    given = ", ".join(f"{name}={value!r}" for name, value in (world or {}).items())
    names = ", ".join(sorted({name.partition(".")[0] for name in (laws, function) if name}, key=str.lower))
    moves = "\n".join(f"    {line}" for line in finding.moves) or "    nothing goes wrong"
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


_OWN = ("nothing_lost", "no_deadlock")  # the laws that every search checks


def _identifier(text: str) -> str:
    return "".join(c if c.isalnum() and c.isascii() else "_" for c in text.lower()).strip("_")


def _in_docstring(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"""', "'''")


def _listed(names: Sequence[str]) -> str:
    return ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")
