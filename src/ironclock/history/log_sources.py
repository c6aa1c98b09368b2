"""Where the rows of a log come from: CSV with any delimiter, JSON Lines, a JSON array, OpenTelemetry spans in
OTLP/JSON, plain or compressed; or a query on a database. Each source is a table of text."""

from __future__ import annotations

import bz2
import codecs
import csv
import gzip
import io
import itertools
import json
import lzma
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from ..errors import LogError

_SAMPLE = 200
"""How many rows of JSON say which columns there are."""
_DELIMITERS = ",;\t|"
_MAGIC: tuple[tuple[bytes, Any, str], ...] = (
    (b"\x1f\x8b", gzip.open, "gzip"), (b"BZh", bz2.open, "bz2"), (b"\xfd7zXZ\x00", lzma.open, "xz"),
)  # fmt: skip
_CONSUMER = 5

Lines = Iterator[tuple[int, list[str]]]


@dataclass
class LogTable:
    """A log as a table: its columns, and its rows with their line numbers. Empty text: nothing is there."""

    place: str
    names: list[str]
    rows: Lines
    csv: CsvFile | None = None


@dataclass(frozen=True)
class CsvFile:
    """A file of CSV in UTF-8 whose first line is its head, as a fast reader needs to know it."""

    path: str
    delimiter: str
    width: int
    compression: str | None
    """``"gzip"``, ``"bz2"`` or None."""

    @cached_property
    def has_quotes(self) -> bool:
        """False if no cell can have a quote, a delimiter or the end of a line in it."""
        if self.compression is not None:
            return True  # perhaps
        with open(self.path, "rb", buffering=0) as file:
            return any(b'"' in part for part in iter(lambda: file.read(1 << 20), b""))


def size_of(places: Sequence[str]) -> int:
    """Return the size of files in bytes, without those that do not exist."""
    return sum(os.path.getsize(place) for place in places if os.path.isfile(place))


@contextmanager
def opened_table(
    path: str, bad: list[str], delimiter: str | None = None, query: str | None = None, encoding: str | None = None
) -> Iterator[LogTable]:
    """Open the table in a file, or what a query on a database returns.

    Parameters: `path` is the file, or the URL of the database if `query` is given; `bad` gets a line for each row that
    cannot be read; `delimiter` is what separates the columns of CSV (None: it is found in the head); `encoding` is
    that of the text (None: it is found in the first bytes). Raises `LogError`.
    """
    if query is not None:
        yield _of_query(path, query)
        return
    if delimiter is not None and (len(delimiter) != 1 or delimiter in '\r\n"'):
        raise LogError(f"delimiter is {delimiter!r}; give one character, such as ';'")
    try:
        with _opened(path, bad, encoding) as file:
            before, first = next(((n, line) for n, line in enumerate(file) if line.strip()), (0, ""))
            lines = itertools.chain([first], file)
            if first.lstrip()[:1] in ("[", "{"):
                yield _of_json(lines, path, bad, before)
            else:
                yield _of_csv(lines, path, bad, delimiter, before, is_utf_8=file.encoding == "utf-8-sig")
    except UnicodeError as error:
        raise LogError(f"cannot read {path}: {_not_text(path, error, encoding)}") from None
    except (OSError, EOFError, lzma.LZMAError) as error:
        raise LogError(f"cannot read {path}: {error}") from None


def _not_text(path: str, error: UnicodeError, given: str | None) -> str:
    """Return in words which line of a file cannot be decoded. The error itself counts from the part that was read."""
    if given is not None:
        return f"it is not text in {given} ({error}); give another encoding"
    what = str(error)
    with suppress(OSError, EOFError, lzma.LZMAError), _uncompressed(path, []) as file:
        for number, line in enumerate(file, 1):
            try:
                line.decode()
            except UnicodeDecodeError as found:
                near = line[max(0, found.start - 20) : found.end + 20]
                what = f"line {number} is not text in UTF-8, at {near!r}"
                break
    return f"{what}; say which encoding it is in: encoding='latin-1', --encoding latin-1"


class _CutOff(io.RawIOBase):
    """A compressed file that can be cut off, as a copy of a file that is still written is: what is there is read."""

    def __init__(self, inner: Any, path: str, bad: list[str]) -> None:
        self._inner = inner
        self._path = path
        self._bad = bad
        self._is_at_end = False

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        try:
            found = b"" if self._is_at_end else self._inner.read1(len(buffer))
        except EOFError:
            self._is_at_end = True
            self._bad.append(f"{self._path}: the file is cut off; what is there is read")
            return 0
        buffer[: len(found)] = found
        return len(found)

    def close(self) -> None:
        self._inner.close()
        super().close()


def _opened(path: str, bad: list[str], encoding: str | None) -> io.TextIOWrapper:
    if encoding is not None:
        try:
            codecs.lookup(encoding)
        except LookupError:
            raise LogError(
                f"there is no encoding {encoding!r}; give one that Python knows, such as 'latin-1'"
            ) from None
        return io.TextIOWrapper(_uncompressed(path, bad), encoding=encoding, newline="")
    with _uncompressed(path, []) as raw:
        begin = raw.read(4096)
    # Many a binary file begins with the mark of UTF-16 by chance; text has an end of a line.
    is_wide = begin[:2] in (b"\xff\xfe", b"\xfe\xff") and "\n" in begin.decode("utf-16", errors="ignore")
    return io.TextIOWrapper(_uncompressed(path, bad), encoding="utf-16" if is_wide else "utf-8-sig", newline="")


def _uncompressed(path: str, bad: list[str]) -> Any:
    opened, compression = _compression(path)
    file = opened(path, "rb")
    return file if compression is None else io.BufferedReader(_CutOff(file, path, bad))


def _compression(path: str) -> tuple[Any, str | None]:
    """Return what opens a file, and how it is compressed."""
    with open(path, "rb") as raw:
        head = raw.read(8)
    return next(((how, name) for magic, how, name in _MAGIC if head.startswith(magic)), (open, None))


# --- CSV ------------------------------------------------------------------------------------------------


def _of_csv(
    lines: Iterator[str], path: str, bad: list[str], delimiter: str | None, before: int, *, is_utf_8: bool
) -> LogTable:
    """Return the table of CSV. `before` are the empty lines before its head."""
    head = next(lines, "")
    if delimiter is None:
        delimiter = max(_DELIMITERS, key=lambda one: _outside_quotes(head, one))
    reader = csv.reader(itertools.chain([head], lines), delimiter=delimiter)
    try:
        names = [name.strip() for name in next(reader, [])]
    except csv.Error as error:
        raise LogError(f"{path}: the file is not CSV: {error}") from None
    doubled = sorted({name for name in names if name and names.count(name) > 1})
    if doubled:
        raise LogError(f"{path}:1: the head names {', '.join(doubled)} twice; give each column another name")
    compression = _compression(path)[1]
    csv_file = None
    if is_utf_8 and not before and names and reader.line_num == 1 and compression != "xz":
        csv_file = CsvFile(path, delimiter, len(names), compression)
    return LogTable(path, names, _csv_rows(reader, len(names), path, bad, before), csv_file)


def _csv_rows(reader: Any, width: int, path: str, bad: list[str], before: int) -> Lines:
    try:
        for values in reader:
            if len(values) == width and any(values):
                yield before + reader.line_num, values
            elif any(values):  # an empty line is not a row
                words = f"the head has {width} columns, and this row has {len(values)}"
                bad.append(f"{path}:{before + reader.line_num}: {words}")
    except csv.Error as error:
        raise LogError(f"{path}:{before + reader.line_num}: the file is not CSV: {error}") from None


def _outside_quotes(text: str, character: str) -> int:
    return sum(part.count(character) for part in text.split('"')[::2])


# --- JSON -----------------------------------------------------------------------------------------------


def _of_json(lines: Iterator[str], path: str, bad: list[str], before: int) -> LogTable:
    values = _json_values(lines, path, bad, before)
    first = next(values, None)
    if first is not None and "resourceSpans" in first[1]:
        spans = _spans(itertools.chain([first], values))
        return _of_dicts(spans, path)
    return _of_dicts(itertools.chain([] if first is None else [first], values), path)


def _of_dicts(rows: Iterator[tuple[int, dict[str, Any]]], path: str) -> LogTable:
    flat = ((line, _flat(value)) for line, value in rows)
    sample = list(itertools.islice(flat, _SAMPLE))
    names = list(dict.fromkeys(name for _, row in sample for name in row))
    texts = ((line, [_text(row.get(name)) for name in names]) for line, row in itertools.chain(sample, flat))
    return LogTable(path, names, texts)


def _json_values(
    lines: Iterator[str], path: str, bad: list[str], before: int
) -> Iterator[tuple[int, dict[str, Any]]]:  # fmt: skip
    """Return the objects of JSON Lines, or of a file that is one array or one object."""
    first = next(lines, "")
    number = before + 1
    with suppress(ValueError):
        value = json.loads(first)
        if isinstance(value, dict):
            yield number, value
            yield from _json_lines(lines, path, bad, number)
            return
    rest = [first, *lines]
    try:
        whole = json.loads("".join(rest))
    except ValueError as error:
        if first.lstrip().startswith("[") or len(rest) == 1 or not _has_objects(rest):
            raise LogError(f"{path}: the file is not JSON: {error}") from None
        yield from _json_lines(iter(rest), path, bad, number - 1)
        return
    for place, value in enumerate(whole if isinstance(whole, list) else [whole], 1):
        if isinstance(value, dict):
            yield place, value
        else:
            bad.append(f"{path}: element {place} is {type(value).__name__}; each row is a JSON object")


def _has_objects(lines: Sequence[str]) -> bool:
    return any(line.strip().startswith("{") and line.strip().endswith("}") for line in lines)


def _json_lines(lines: Iterable[str], path: str, bad: list[str], before: int) -> Iterator[tuple[int, dict[str, Any]]]:
    for number, text in enumerate(lines, before + 1):
        if not text.strip():
            continue
        try:
            value = json.loads(text)
        except ValueError as error:
            bad.append(f"{path}:{number}: the line is not whole JSON: {error}")
            continue
        if isinstance(value, dict):
            yield number, value
        else:
            bad.append(f"{path}:{number}: the line is {type(value).__name__}; each row is a JSON object")


def _flat(value: Mapping[str, Any], before: str = "") -> dict[str, Any]:
    """Return an object with the keys of the objects inside as well, such as ``meta.job.id``."""
    made: dict[str, Any] = {}
    for key, one in value.items():
        made[before + key] = one
        if isinstance(one, dict):
            made |= _flat(one, f"{before}{key}.")
    return made


def _text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, str):
        return value
    if isinstance(value, (dict, list, bool, int, float)):
        return json.dumps(value, ensure_ascii=False)
    return value.isoformat() if hasattr(value, "isoformat") else str(value)


# --- spans ----------------------------------------------------------------------------------------------


def _spans(documents: Iterator[tuple[int, dict[str, Any]]]) -> Iterator[tuple[int, dict[str, Any]]]:
    """Return the spans of OTLP/JSON, each with its attributes as keys.

    If some spans are consumers of a queue, only those are attempts. Source: opentelemetry.io/docs/specs/otlp, JSON
    Protobuf Encoding.
    """
    found = []
    for line, document in documents:
        for resource in document.get("resourceSpans", ()):
            for scope in resource.get("scopeSpans", ()):
                found += [(line, span) for span in scope.get("spans", ())]
    consumers = [pair for pair in found if pair[1].get("kind") in (_CONSUMER, "SPAN_KIND_CONSUMER")]
    for line, span in consumers or found:
        status = span.get("status", {})
        failed = status.get("code") in (2, "STATUS_CODE_ERROR")
        row = {
            "traceId": span.get("traceId"), "spanId": span.get("spanId"), "name": span.get("name"),
            "startTimeUnixNano": span.get("startTimeUnixNano"), "endTimeUnixNano": span.get("endTimeUnixNano"),
            "status": "error" if failed else "ok", "status.message": status.get("message"),
        }  # fmt: skip
        row |= {one["key"]: _attribute(one.get("value", {})) for one in span.get("attributes", ()) if "key" in one}
        yield line, row


def _attribute(value: Mapping[str, Any]) -> Any:
    if "intValue" in value:
        return int(value["intValue"])
    if "arrayValue" in value:
        return [_attribute(one) for one in value["arrayValue"].get("values", ())]
    return next(iter(value.values()), None)


# --- a database -----------------------------------------------------------------------------------------


def _of_query(url: str, query: str) -> LogTable:
    try:
        import sqlalchemy
    except ImportError:
        raise LogError("a query needs SQLAlchemy; install ironclock[query] and the driver of the database") from None
    try:
        engine = sqlalchemy.create_engine(url)
        with engine.connect() as connection:
            result = connection.execute(sqlalchemy.text(query))
            names = list(map(str, result.keys()))
            rows = [[_text(value) for value in row] for row in result]
    except (sqlalchemy.exc.SQLAlchemyError, ImportError) as error:
        said = str(error).splitlines()[0] if str(error) else type(error).__name__
        raise LogError(f"cannot query the database: {said}") from None
    finally:
        if "engine" in locals():
            engine.dispose()
    return LogTable("the query", names, iter(enumerate(rows, 1)))
