"""Where a text of SQL reads the server's clock, and the same text with functions of Iron Clock in these places.

The words are those of https://www.postgresql.org/docs/current/functions-datetime.html#FUNCTIONS-DATETIME-CURRENT.
What stands in text, comments and quoted names is left alone. The body of a function is code.
"""

from __future__ import annotations

import re
from functools import lru_cache

SCHEMA = "ironclock"
FUNCTIONS = ("now", "transaction_timestamp", "statement_timestamp", "clock_timestamp", "timeofday")
"""Functions of PostgreSQL that read the clock."""
VALUES = ("current_timestamp", "current_date", "current_time", "localtimestamp", "localtime")
"""Words of the SQL standard that read the clock: they are syntax, and no functions that could be replaced."""

_TEXT = r"(?P<text>[eE]'(?:[^'\\]|\\.|'')*'|'(?:[^']|'')*')"
_QUOTED = (
    _TEXT + r'|(?P<name>"(?:[^"]|"")*")'
    r"|(?P<comment>--[^\n]*|/\*.*?\*/)"
    r"|(?P<body>\$(?P<tag>\w*)\$.*?\$(?P=tag)\$)"
)
_TOKEN = re.compile(
    _QUOTED
    + r"|(?<![\w$.])(?:pg_catalog\s*\.\s*)?(?P<function>" + "|".join(FUNCTIONS) + r")\s*\(\s*\)"
    + r"|(?<![\w$.])(?P<value>" + "|".join(VALUES) + r")(?![\w$.])(?:\s*\(\s*(?P<digits>\d+)\s*\))?",
    re.IGNORECASE | re.DOTALL,
)  # fmt: skip
_OURS = re.compile(_TEXT + rf'|\b{SCHEMA}\."?(?P<word>{"|".join((*FUNCTIONS, *VALUES))})"?\((?P<digits>\d*)\)')
_HAS_CODE = re.compile(r"\s*(?:create\s+(?:or\s+replace\s+)?(?:function|procedure)|do)\b", re.IGNORECASE)
_LABEL = re.compile(r"\bas\s*\Z", re.IGNORECASE)
_CANDIDATE = re.compile("now|timestamp|timeofday|current_|localtime|age|yesterday|today|tomorrow", re.IGNORECASE)
_SPECIAL_TEXT = re.compile(
    r"(?:\b(?:timestamptz|timestamp(?:\s+with(?:out)?\s+time\s+zone)?|date|time)\s*'\s*(?:now|today|tomorrow|yesterday)\b[^']*')"
    r"|(?:'\s*(?:now|today|tomorrow|yesterday)\b[^']*'\s*(?:::|\bas\s)\s*(?:timestamp|date|time))",
    re.IGNORECASE,
)
_AGE = re.compile(
    r"(?<![\w$.])(?:pg_catalog\s*\.\s*)?age\s*\((?P<argument>[^(),]*(?:\([^()]*\)[^(),]*)*)\)", re.IGNORECASE
)
_SYSDATE = re.compile(r"(?<![\w$.@])sysdate\s*\(\s*\d?\s*\)", re.IGNORECASE)
_MARIADB_WORDS = re.compile(
    r"(?<![\w$.@])(?:(?:now|curdate|curtime|sysdate|utc_timestamp|utc_date|utc_time|unix_timestamp|localtime|localtimestamp)\s*\(\s*\d?\s*\)"
    r"|current_timestamp|current_date|current_time|localtimestamp)(?!\w)",
    re.IGNORECASE,
)


@lru_cache(maxsize=1024)
def simulated(sql: str) -> str:
    """Return a text of PostgreSQL's SQL in which every reading of the clock calls a function of Iron Clock.

    ``select now(), current_date`` becomes ``select ironclock.now(), ironclock."current_date"()``.
    """
    if not _CANDIDATE.search(sql):
        return sql
    has_code = _HAS_CODE.match(sql) is not None

    def replaced(found: re.Match[str]) -> str:
        whole = found[0]
        if found["body"] is not None and has_code:
            mark = f"${found['tag']}$"
            return f"{mark}{simulated(whole[len(mark) : -len(mark)])}{mark}"
        if found["function"] is not None:
            return f"{SCHEMA}.{found['function'].lower()}()"
        if found["value"] is None or _LABEL.search(sql, 0, found.start()):
            return whole  # after AS it is the name of a column
        return f'{SCHEMA}."{found["value"].lower()}"({found["digits"] or ""})'

    return _TOKEN.sub(replaced, sql)


def real(sql: str) -> str:
    """Return a text as it was before `simulated`, as far as the server tells it: the inverse for stored code."""

    def replaced(found: re.Match[str]) -> str:
        word = found["word"]
        if word is None:
            return found[0]
        if word in FUNCTIONS:
            return f"{word}()"
        return word.upper() + (f"({found['digits']})" if found["digits"] else "")

    return _OURS.sub(replaced, sql)


@lru_cache(maxsize=1024)
def real_readings(sql: str) -> str:
    """Return in words what in a text of PostgreSQL's SQL reads the real clock, whatever is done. Empty: nothing."""
    if not _CANDIDATE.search(sql):
        return ""
    special = _SPECIAL_TEXT.search(sql)
    if special is not None:
        return f"{special[0]} (write now() or current_date)"
    age = _AGE.search(sql)
    if age is not None and age["argument"].strip():
        return f"{age[0]} with one argument (write age(current_date, ...))"
    return ""


@lru_cache(maxsize=1024)
def mariadb_readings(sql: str, follows: bool) -> str:
    """Return in words what in a statement for MariaDB or MySQL reads the real clock. Empty: nothing.

    Parameters: `follows` is True if the session's `timestamp` is set, which SYSDATE does not look at.
    """
    found = (_SYSDATE if follows else _MARIADB_WORDS).search(sql)
    if found is None:
        return ""
    return f"{found[0]} (write NOW())" if follows else found[0]
