"""Writes docs/reference/ from the code: python docs/reference.py [FOLDER].

The docstrings of all public names and of all that can be reached from them, the options and fixtures of the pytest
plugin, the settings, the commands, and the file formats.
"""

from __future__ import annotations

import ast
import dataclasses
import functools
import importlib
import inspect
import itertools
import json
import re
import sys
import textwrap
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import click

import ironclock as ic
from ironclock import pytest_plugin
from ironclock.capture.configured_taps import TAP_SETTINGS
from ironclock.cli.main import main as commands
from ironclock.scenario.law_tables import law_file_schema

HERE = Path(__file__).parent


@dataclass
class Page:
    """A page of the reference: its file, its title, what it says first, and the names that it describes."""

    file: str
    title: str
    intro: str
    names: str = ""
    lines: list[str] = field(default_factory=list)


PAGES = (
    Page("rig", "The rig", "The simulated world of one test. Everything else is reached from it.", "Rig"),
    Page("jobs", "Jobs, policies and retries", "Job types with their policies; jobs and attempts, as tests read them.",
         "JobType Call Policy Retry Wait fixed linear exponential Job Attempt JobSet DeadLetters Expected expected "
         "simulation.admission:Conditions Duration Instant"),
    Page("faults", "Faults", "What goes wrong: `rig.faults`.", "Faults Fault FaultKind Passing Strike"),
    Page("workers", "Queues, workers and flows", "Limits of queues, bounded resources, flows of jobs, transactions and "
         "requests.", "QueueControl Resource Workflow simulation.workflows:Step Transaction Request"),
    Page("capture", "Capture", "How jobs of real code come into a rig: taps, tables, loops, HTTP, transactions.",
         "reading Enqueue Tap capture.effect_taps:EffectTap capture.handlers:HandlerTap "
         "capture.transaction_taps:TransactionTap capture.outside_calls:OutsideCall Columns Outbox LoopGroup "
         "WorkerLoop capture.endpoint:Endpoint Delivery capture.collector:Collector"),
    Page("schedules", "Schedules", "When jobs are due by the clock.",
         "cron every every_after once sun rrule Schedule schedules.cron:Cron schedules.intervals:Once "
         "schedules.recurrence_rules:Rule schedules.schedule:Firings schedules.timetable:Timetable Scheduled "
         "schedules.timetable:Handover"),
    Page("histories", "Histories and logs", "What happened, and logs of real runs.",
         "History Entry Effects Effect compare Comparison history.comparison:Change log_history check_log"),
    Page("scenarios", "Scenarios and forecasts", "Worlds in a file, and many days of them.",
         "Scenario scenario.scenario:Ran scenario.expectations:Outcome forecast Forecast advise Advice "
         "forecasting.advice:Tried forecasting.advice:Kept storm_load"),
    Page("rehearsals", "Rehearsals", "A log of a real run, once more, with other policies or code.",
         "rehearse Rehearsal Rehearsed"),
    Page("probe", "The probe", "The search for the failure that breaks a law.",
         "probe Findings Finding Coverage Progress"),
    Page("laws", "Laws", "Statements over a history that must hold: `rig.check(ic.laws.once_per_key(\"charge\"))`."),
    Page("services", "Simulated services", "Small outside services that come with the library: "
         "`rig.service(ic.services.Mail())`."),
    Page("errors", "Errors", "Every error is an `ic.IronClockError`. [Troubleshooting](../troubleshooting.md) has the "
         "cause and the remedy of each."),
    Page("pytest", "The pytest plugin", "It comes with the package: ask for the fixture `rig`."),
    Page("settings", "Settings", "The table `[tool.ironclock]` in `pyproject.toml`."),
    Page("commands", "Commands", "`ironclock COMMAND --help` says the same."),
    Page("formats", "File formats", "Files that people write or other programs read."),
)  # fmt: skip

MADE_BY_YOU = "Rig Policy Retry Columns Enqueue World Breach"
"""Classes that a user makes, beside simulated services. All others are given by something else."""


_DESCRIBED = frozenset(("JobSet", "Schedule", "Service", "Fault"))
"""Classes whose members are not described again in the classes below them."""


def main(folder: str) -> None:
    """Write all pages."""
    made = Reference()
    place = Path(folder)
    place.mkdir(exist_ok=True)
    for name, text in made.pages().items():
        (place / f"{name}.md").write_text(text, encoding="utf-8")


class Reference:
    """The pages, and the names that they describe: by a name such as ``Rig.advance``, its page."""

    def __init__(self) -> None:
        self.described: dict[str, str] = {}
        self.things: dict[str, Any] = {}
        """By its name, what is described, if it is a class or a function."""

    def pages(self) -> dict[str, str]:
        """Return the text of each page."""
        made = [Page(page.file, page.title, page.intro, page.names) for page in PAGES]
        special = {
            "laws": self._laws, "services": self._services, "errors": self._errors, "pytest": self._pytest,
            "settings": self._settings, "commands": self._commands, "formats": self._formats,
        }  # fmt: skip
        for page in made:
            if page.file in special:
                page.lines += special[page.file](page)
            for name in page.names.split():
                page.lines += self._thing(page, *_found(name))
        texts = {page.file: self._linked(page) for page in made}
        rows = [f"| [{page.title}]({page.file}.md) | {page.intro} |" for page in made]
        texts["index"] = "\n".join([
            "# Reference", "", "Made from the code by `python docs/reference.py`. Nothing here is written by hand.", "",
            "In all pages `ic` is `import ironclock as ic`. Durations are texts such as `\"90s\"`, `\"1h30m\"` or "
            "`\"2d\"`, numbers of seconds, or `timedelta`. Instants are ISO 8601 texts in the zone of the rig, or "
            "aware datetimes.", "", "| page | what it has |", "|---|---|", *rows, "",
        ])  # fmt: skip
        return texts

    # --- classes and functions ----------------------------------------------------------------------

    def _thing(self, page: Page, shown: str, thing: Any) -> list[str]:
        if not inspect.isclass(thing):
            return self._function(page, shown, thing, "##")
        name = thing.__name__
        self.described[name] = page.file
        self.things[name] = thing
        lines = [*_head("##", shown, name)]
        own = "__init__" in vars(thing) or dataclasses.is_dataclass(thing)
        if own and (name in MADE_BY_YOU.split() or shown.startswith("ic.services.")):
            lines += _signature(name, thing)
        elif shown == name:
            lines += [f"*In `{thing.__module__}`.*", ""]
        lines += [*_doc(thing), ""]
        bases = [base for base in thing.__mro__[1:] if base.__name__ in _DESCRIBED]
        left_out = {name for base in bases for name in vars(base) if name not in vars(thing)}
        lines += [line for base in bases for line in (f"It has all that `{base.__name__}` has.", "")]
        for member, kind, value, text in members(thing):
            if member in left_out:
                continue
            self.described[f"{name}.{member}"] = page.file
            lines += _head("###", f"{name}.{member}", f"{name}.{member}")
            if kind == "method":
                lines += [*_signature(member, value, skip=True), *_doc(value), ""]
            else:
                lines += [*_type_of(value), *_as_markdown(text), ""]
        return lines

    def _function(self, page: Page, shown: str, function: Any, head: str) -> list[str]:
        name = shown.rpartition(".")[2]
        self.described[name] = page.file
        self.things[name] = function
        if not callable(function) or not hasattr(function, "__name__"):
            return [*_head(head, shown, name), *_alias(name), ""]
        return [*_head(head, shown, name), *_signature(name, function), *_doc(function), ""]

    def _linked(self, page: Page) -> str:
        """Return the text of a page. Names in it lead to where they are described."""
        lines, code = [f"# {page.title}", "", page.intro, ""], False
        for line in page.lines:
            code ^= line.lstrip().startswith("```")
            lines.append(line if code or line.startswith("#") else re.sub(r"`([A-Za-z_.]+)`", self._link(page), line))
        return re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).rstrip() + "\n"

    def _link(self, page: Page) -> Any:
        def link(found: re.Match[str]) -> str:
            name = found[1].removeprefix("ic.").replace("rig.", "Rig.", 1) if found[1] != "rig" else ""
            where = self.described.get(name)
            if where is None:
                return found[0]
            return f"[{found[0]}]({'' if where == page.file else f'{where}.md'}#{name})"

        return link

    # --- pages of their own kind --------------------------------------------------------------------

    def _laws(self, page: Page) -> list[str]:
        lines = []
        for name in sorted(n for n in ic.laws.__all__ if n[0].islower()):
            lines += self._function(page, f"ic.laws.{name}", getattr(ic.laws, name), "##")
        words = "A law is a function of the `World` that returns a breach, or a line of words, for all that is wrong."
        lines += ["## Your own laws { #own }", "", words, ""]
        for name in ("laws.law:Law", "World", "Breach", "BrokenLaw", "history.job_records:JobRecord",
                     "history.job_records:AttemptRecord"):  # fmt: skip
            lines += self._thing(page, *_found(name))
        return lines

    def _services(self, page: Page) -> list[str]:
        lines = []
        for name in sorted(ic.services.__all__):
            lines += self._thing(page, f"ic.services.{name}", getattr(ic.services, name))
        for name in ("services.http_service:Reply", "services.ledger:Posting", "services.object_store:StoredObject"):
            lines += self._thing(page, *_found(name))
        return lines

    def _errors(self, page: Page) -> list[str]:
        lines = []
        for name in sorted(
            n
            for n in ic.__all__
            if inspect.isclass(thing := getattr(ic, n)) and issubclass(thing, BaseException | Warning)
        ):
            if name not in self.described:
                thing = getattr(ic, name)
                bases = ", ".join(f"`{base.__name__}`" for base in thing.__bases__)
                lines += [*self._thing(page, f"ic.{name}", thing), f"Derived from {bases}.", ""]
        return lines

    def _pytest(self, page: Page) -> list[str]:
        lines = ["## Fixture", "", *_head("###", "rig", "fixture-rig"), *_doc(pytest_plugin.rig), "", "## Markers", ""]
        for text in _markers():
            call, _, words = text.partition(": ")
            name = call.partition("(")[0]
            lines += _head("###", f"@pytest.mark.{name}", f"marker-{name}")
            lines += ["```python", f"@pytest.mark.{call}", "```", "", f"{words[0].upper()}{words[1:]}.", ""]
        lines += ["## Options", "", "| option | what it does |", "|---|---|"]
        for option, value, words in _options():
            self.described[option] = page.file
            lines.append(f"| `{option}{f' {value}' if value else ''}` | {words} |")
        return [*lines, ""]

    def _settings(self, page: Page) -> list[str]:
        lines = ["| setting | what it says |", "|---|---|"]
        for name, words in pytest_plugin.SETTINGS.items():
            self.described[f"tool.ironclock.{name}"] = page.file
            lines.append(f"| `{name}` | {words} |")
        taps = importlib.import_module("ironclock.capture.configured_taps")
        lines += [
            "",
            "## [tool.ironclock.taps] { #taps }",
            "",
            *_doc(taps)[2:],
            "",
            "| key | what it says |",
            "|---|---|",
        ]
        lines += [f"| `{name}` | {words} |" for name, words in TAP_SETTINGS.items()]
        databases = importlib.import_module("ironclock.capture.configured_databases")
        return [*lines, "", "## databases { #databases }", "", *_doc(databases)[2:], ""]

    def _commands(self, page: Page) -> list[str]:
        lines = []
        root = click.Context(commands)
        for name in commands.list_commands(root):
            command = commands.get_command(root, name)
            assert command is not None
            self.described[f"ironclock {name}"] = page.file
            context = click.Context(command, info_name=f"ironclock {name}")
            lines += [*_head("##", f"ironclock {name}", f"ironclock-{name}"), "```text",
                      " ".join([f"ironclock {name}", *command.collect_usage_pieces(context)]), "```", "",
                      *textwrap.dedent(inspect.cleandoc(command.help or "")).replace("\b\n", "").splitlines(), "",
                      "| option | what it does |", "|---|---|"]  # fmt: skip
            for parameter in command.get_params(context):
                record = parameter.get_help_record(context)
                if record is not None and "--help" not in parameter.opts:  # click keeps how it was asked first
                    option, words = record
                    lines.append(f"| `{option}` | {_cell(words)} |")
            lines.append("")
        return lines

    def _formats(self, page: Page) -> list[str]:
        lines = []
        for title, where, schema in (
            ("Scenario", "`ironclock run --schema` prints it. See [scenarios](../scenario.md).", ic.Scenario.schema()),
            ("Laws", "`ironclock check --schema` prints it. See [logs](../reports.md).", law_file_schema()),
            ("History", "[history.schema.json](../history.schema.json). See [the history file](../history.md).",
             json.loads((HERE / "history.schema.json").read_text(encoding="utf-8"))),
        ):  # fmt: skip
            lines += [
                *_head("##", title, title.lower()),
                where,
                "",
                *_schema(schema, title.lower(), self.described, page.file),
            ]
        return lines


# --- what there is --------------------------------------------------------------------------------------


def _found(name: str) -> tuple[str, Any]:
    """Return how a name is shown, and what it is."""
    if ":" not in name:
        return f"ic.{name}", getattr(ic, name)
    module, _, attribute = name.partition(":")
    return attribute, getattr(importlib.import_module(f"ironclock.{module}"), attribute)


def members(thing: type) -> list[tuple[str, str, Any, str]]:
    """Return the public members of a class in the order of its source: name, kind, value, and words."""
    found: dict[str, tuple[str, str, Any, str]] = {}
    for base in reversed(thing.__mro__):
        if not base.__module__.startswith("ironclock"):
            continue
        told = attributes(base)
        for name, value in vars(base).items():
            if name.startswith("_") or name in told:
                continue
            inner = getattr(value, "__func__", getattr(value, "fget", getattr(value, "func", value)))
            words = inspect.getdoc(inner) if callable(inner) and not inspect.isclass(inner) else None
            if not words:
                continue
            kind = "attribute" if isinstance(value, (property, functools.cached_property)) else "method"
            found[name] = name, kind, inner, words
        for name, (annotation, words) in told.items():
            found[name] = name, "attribute", annotation, words
    return list(found.values())


@functools.cache
def attributes(thing: type) -> dict[str, tuple[str, str]]:
    """Return the attributes that have words below them, in the class or in its `__init__`: annotation and words."""
    try:
        tree = ast.parse(textwrap.dedent(inspect.getsource(thing)))
    except (OSError, TypeError):
        return {}
    body = tree.body[0].body  # type: ignore[attr-defined]
    found = {}
    inits = [node for node in body if isinstance(node, ast.FunctionDef) and node.name == "__init__"]
    for block in (body, *(init.body for init in inits)):
        for node, after in itertools.pairwise(block):
            if not (isinstance(after, ast.Expr) and isinstance(after.value, ast.Constant)):
                continue
            target = getattr(node, "target", None) or (node.targets[0] if isinstance(node, ast.Assign) else None)
            name = getattr(target, "id", None) or getattr(target, "attr", None)
            if name and not name.startswith("_"):
                annotation = ast.unparse(node.annotation) if isinstance(node, ast.AnnAssign) else ""
                found[name] = annotation, inspect.cleandoc(str(after.value.value))
    return found


def _markers() -> list[str]:
    class Config:
        stash: dict[Any, Any] = {}
        pluginmanager = None

        def __init__(self) -> None:
            self.lines: list[str] = []

        def addinivalue_line(self, _: str, line: str) -> None:
            self.lines.append(line)

        def getoption(self, _: str) -> None:
            return None

    config = Config()
    pytest_plugin.pytest_configure(config)  # type: ignore[arg-type]
    return config.lines


def _options() -> list[tuple[str, str, str]]:
    found: list[tuple[str, str, str]] = []

    class Parser:
        def getgroup(self, *_: str) -> Parser:
            return self

        def addoption(self, name: str, metavar: str = "", help: str = "", **_: Any) -> None:
            found.append((name, metavar, f"{help[0].upper()}{help[1:]}."))

    pytest_plugin.pytest_addoption(Parser())  # type: ignore[arg-type]
    return found


def _schema(schema: dict[str, Any], path: str, described: dict[str, str], page: str) -> list[str]:
    """Return the tables of a JSON Schema: one for each object that it defines."""
    lines: list[str] = []
    known = schema.get("$defs", {})

    def table(title: str, of: dict[str, Any]) -> None:
        rows = []
        needed = of.get("required", ())
        for key, value in of.get("properties", {}).items():
            described[f"{path}:{title}.{key}"] = page
            rows.append(
                f"| `{key}` | {_cell(_type(value))} | {_cell(_words(value, known))}{' Required.' * (key in needed)} |"
            )
        if rows:
            lines.extend([f"### {title} {{ #{path}-{re.sub(r'[^a-z0-9]+', '-', title.lower()).strip('-')} }}", ""])
            if of.get("description"):
                lines.extend([of["description"], ""])
            lines.extend(["| key | type | what it says |", "|---|---|---|", *rows, ""])

    table(f"The file ({path})", schema)
    for name, one in known.items():
        table(name, one)
        for number, part in enumerate(one.get("oneOf", one.get("anyOf", [])), 1):
            table(f"{name} ({number})", part)
    return lines


def _type(value: dict[str, Any]) -> str:
    if "$ref" in value:
        return str(value["$ref"]).rpartition("/")[2]
    if "enum" in value:
        return ", ".join(f"`{json.dumps(one)}`" for one in value["enum"])
    if "const" in value:
        return f"`{json.dumps(value['const'])}`"
    for key in ("oneOf", "anyOf"):
        if key in value:
            return " or ".join(dict.fromkeys(_type(one) for one in value[key]))
    of = value.get("type", "any")
    if of == "array":
        return f"array of {_type(value.get('items', {}))}"
    if of == "object" and isinstance(value.get("additionalProperties"), dict):
        return f"table of {_type(value['additionalProperties'])}"
    return " or ".join(of) if isinstance(of, list) else str(of).replace("object", "table")


def _words(value: dict[str, Any], known: dict[str, Any]) -> str:
    words = value.get("description", "")
    if not words and "$ref" in value:
        words = known.get(str(value["$ref"]).rpartition("/")[2], {}).get("description", "")
    if "default" in value:
        words = f"{words} Default: `{json.dumps(value['default'])}`."
    return str(words)


# --- Markdown -------------------------------------------------------------------------------------------


def _head(level: str, shown: str, anchor: str) -> list[str]:
    return [f"{level} {shown} {{ #{anchor} }}", ""]


def _cell(text: str) -> str:
    return " ".join(text.split()).replace("|", "\\|").replace("<", "&lt;")


def _alias(name: str) -> list[str]:
    module = importlib.import_module(f"ironclock.foundation.{'durations' if name == 'Duration' else 'instants'}")
    tree = ast.parse(inspect.getsource(module))
    for node, after in itertools.pairwise(tree.body):
        if isinstance(node, ast.AnnAssign) and getattr(node.target, "id", "") == name:
            return ["```python", f"{name} = {ast.literal_eval(node.value)}", "```", "",
                    *inspect.cleandoc(after.value.value).splitlines()]  # type: ignore[attr-defined, arg-type] # fmt: skip
    return []


def _signature(name: str, function: Any, skip: bool = False) -> list[str]:
    """Return the signature as a block of code, with types and defaults, one parameter a line if it is long."""
    try:
        signature = inspect.signature(function)
    except (TypeError, ValueError):
        return []
    parameters = list(signature.parameters.values())
    if skip and parameters and parameters[0].name in ("self", "cls"):
        parameters = parameters[1:]
    shown, seen_star = [], False
    for one in parameters:
        if one.kind is one.KEYWORD_ONLY and not seen_star:
            shown.append("*")
            seen_star = True
        seen_star |= one.kind is one.VAR_POSITIONAL
        star = {one.VAR_POSITIONAL: "*", one.VAR_KEYWORD: "**"}.get(one.kind, "")
        annotation = "" if one.annotation is one.empty else f": {_annotation(one.annotation)}"
        default = (
            ""
            if one.default is one.empty
            else f" = {_default(one.default)}"
            if annotation
            else f"={_default(one.default)}"
        )
        shown.append(f"{star}{one.name}{annotation}{default}")
    returns = (
        ""
        if signature.return_annotation is signature.empty or inspect.isclass(function)
        else f" -> {_annotation(signature.return_annotation)}"
    )
    line = f"{name}({', '.join(shown)}){returns}"
    if len(line) > 90:
        line = "\n".join([f"{name}(", *(f"    {one}," for one in shown), f"){returns}"])
    return ["```python", *line.splitlines(), "```", ""]


def _annotation(annotation: Any) -> str:
    text = annotation if isinstance(annotation, str) else getattr(annotation, "__name__", str(annotation))
    return re.sub(r"\b(?:dt|collections\.abc|typing|ironclock(?:\.\w+)*)\.", "", text.strip("\"'"))


def _default(value: Any) -> str:
    text = repr(value)
    return "..." if "<" in text or "object at" in text else text


def _type_of(value: Any) -> list[str]:
    if isinstance(value, str):
        return [f"*{_annotation(value)}*".replace("|", "\\|"), ""] if value else []
    annotation = inspect.signature(value).return_annotation
    return [] if annotation is inspect.Signature.empty else [f"*{_annotation(annotation)}*".replace("|", "\\|"), ""]


def _doc(thing: Any) -> list[str]:
    return _as_markdown(inspect.getdoc(thing) or "")


def _as_markdown(text: str) -> list[str]:
    """Return a docstring as Markdown: code after two colons becomes a block."""
    lines: list[str] = []
    code = False
    for line in text.replace("``", "`").splitlines():
        if code and line.strip() and not line.startswith("    "):
            lines += ["```", ""]
            code = False
        if not code and line.endswith("::"):
            lines += [line[:-1], "", "```python"]
            code = True
            continue
        if code and lines[-1] == "```python" and not line.strip():
            continue
        if lines and lines[-1] == "```python" and line.startswith("    ["):
            lines[-1] = "```toml"
        lines.append(line[4:] if code else line)
    while code and not lines[-1].strip():
        lines.pop()
    return [*lines, "```"] if code else lines


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else str(HERE / "reference"))
