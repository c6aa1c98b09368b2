"""Cron against a brute-force walk over the zone's own clock, minute by minute, that shares no code with it."""

from __future__ import annotations

import datetime as dt
import random
from collections import defaultdict
from collections.abc import Iterable
from functools import cache
from zoneinfo import ZoneInfo, available_timezones

import pytest
import read_words
from hypothesis import given, settings
from hypothesis import strategies as st

from ironclock.errors import CronError, IronClockError
from ironclock.schedules.cron import Cron, cron

UTC = dt.timezone.utc
MINUTE = dt.timedelta(minutes=1)


def utc(moments: Iterable[dt.datetime]) -> list[dt.datetime]:
    """In UTC: datetimes of two zones never compare equal inside a doubled hour."""
    return [moment.astimezone(UTC) for moment in moments]


@cache
def numbers(text: str, low: int, high: int) -> set[int]:
    """A field of numbers, ranges, lists and steps, read naively."""
    found: set[int] = set()
    for part in text.split(","):
        body, _, step = part.partition("/")
        if body == "*":
            span = range(low, high + 1)
        elif "-" in body:
            first, last = map(int, body.split("-"))
            span = range(first, last + 1)
        else:
            span = range(int(body), (high if step else int(body)) + 1)
        found |= set(span[:: int(step or 1)])
    return found


def matches(expression: str, wall: dt.datetime) -> bool:
    """Whether a local minute matches, by the rules of POSIX and of the star."""
    minute, hour, day, month, weekday = expression.split()
    if wall.minute not in numbers(minute, 0, 59) or wall.hour not in numbers(hour, 0, 23):
        return False
    if wall.month not in numbers(month, 1, 12):
        return False
    by_day = wall.day in numbers(day, 1, 31)
    by_week = wall.isoweekday() % 7 in {n % 7 for n in numbers(weekday, 0, 7 if "7" in weekday else 6)}
    if day[0] == "*" or weekday[0] == "*":
        return by_day and by_week
    return by_day or by_week


def walk(expression: str, zone: ZoneInfo, start: dt.datetime, end: dt.datetime) -> list[dt.datetime]:
    """Every firing in [start, end): the running clock as it is shown, or each wall time of the calendar once."""
    minute, hour = expression.split()[:2]
    shown: dict[dt.datetime, list[dt.datetime]] = defaultdict(list)
    at = start - dt.timedelta(hours=26)
    while at < end + dt.timedelta(hours=26):
        shown[at.astimezone(zone).replace(tzinfo=None, fold=0)].append(at)
        at += MINUTE
    found: set[dt.datetime] = set()
    if minute[0] == "*" or hour[0] == "*":
        found = {at for wall, instants in shown.items() if matches(expression, wall) for at in instants}
    else:
        wall, last = min(shown), max(shown)
        before = shown[wall][0] - wall.replace(tzinfo=UTC)
        while wall <= last:
            instants = shown.get(wall)
            if instants:
                before = min(instants) - wall.replace(tzinfo=UTC)
            if matches(expression, wall):
                found.add(min(instants) if instants else wall.replace(tzinfo=UTC) + before)
            wall += MINUTE
    return sorted(at for at in found if start <= at < end)


def changes(zone: ZoneInfo, year: int) -> list[dt.datetime]:
    """The instants in a year at which a zone's offset changes, to the minute below."""
    found, at = [], dt.datetime(year, 1, 1, tzinfo=UTC)
    while at.year == year:
        later = at + dt.timedelta(hours=6)
        if at.astimezone(zone).utcoffset() != later.astimezone(zone).utcoffset():
            found.append(at)
        at = later
    return found


def random_expression(chance: random.Random) -> str:
    def field(low: int, high: int, star: float) -> str:
        kind = chance.random()
        if kind < star:
            return "*" if chance.random() < 0.6 else f"*/{chance.randint(2, 15)}"
        one = chance.randint(low, high)
        if kind < star + 0.4:
            return str(one)
        if kind < star + 0.6:
            return ",".join(str(n) for n in sorted(chance.sample(range(low, high + 1), 2)))
        other = chance.randint(one, high)
        return f"{one}-{other}" + (f"/{chance.randint(1, 9)}" if chance.random() < 0.4 else "")

    return " ".join([field(0, 59, 0.3), field(0, 4, 0.4), field(1, 31, 0.75), field(1, 12, 0.9), field(0, 6, 0.75)])


ODD_ONES = [
    ("Atlantic/Faroe", 2031), ("Australia/Lord_Howe", 2031), ("Europe/Dublin", 2031), ("America/Havana", 2031),
    ("Africa/Casablanca", 2031), ("Pacific/Apia", 2011), ("Asia/Pyongyang", 2015), ("Asia/Beirut", 2031),
    ("America/Caracas", 2007), ("Antarctica/Troll", 2031), ("Asia/Kathmandu", 1985),
]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "year"), [*ODD_ONES[:4], *(pytest.param(*one, marks=pytest.mark.exhaustive) for one in ODD_ONES[4:])]
)
def test_odd_zones_around_each_change(name: str, year: int) -> None:
    zone, chance = ZoneInfo(name), random.Random(name)
    moments = changes(zone, year)
    assert moments, "the zone does change in that year"
    for moment in moments[:2]:
        start, end = moment - dt.timedelta(hours=20), moment + dt.timedelta(hours=20)
        for expression in ["30 1 * * *", "*/20 * * * *", "0 0 * * *", *(random_expression(chance) for _ in range(6))]:
            try:
                made = cron(expression, zone)
            except CronError:
                continue  # a day that no month has
            expected = walk(expression, zone, start, end)
            assert utc(made.between(start, end)) == expected, expression
            if expected:
                found, at = [], start - MINUTE
                while (later := made.after(at)) is not None and later < end and len(found) < 40:
                    found.append(later)
                    at = later
                assert utc(found) == expected[:40], expression


def test_every_zone_of_the_database(exhaustive: bool) -> None:
    chance = random.Random(31)
    names = sorted(available_timezones() - {"localtime", "Factory"})
    assert len(names) > 400
    names = names if exhaustive else chance.sample(names, 60)
    for name in names:
        zone = ZoneInfo(name)
        moments = changes(zone, 2031) or [dt.datetime(2031, 3, 1, tzinfo=UTC)]
        start, end = moments[0] - dt.timedelta(hours=4), moments[0] + dt.timedelta(hours=14)
        expression = f"{chance.choice(['*/15', '30', '0,45'])} {chance.choice(['*', '0-3', '1,2', '*/2'])} * * *"
        made = cron(expression, zone)
        assert utc(made.between(start, end)) == walk(expression, zone, start, end), (name, expression)


@pytest.mark.parametrize(
    ("expression", "start", "expected"),
    [
        ("0 12 L * *", "2031-02-01", ["02-28", "03-31", "04-30"]), ("0 12 L-2 * *", "2031-02-01", ["02-26", "03-29"]),
        ("0 12 LW * *", "2031-05-01", ["05-30", "06-30"]), ("0 12 15W * *", "2031-02-01", ["02-14", "03-14", "04-15"]),
        ("0 12 1W * *", "2031-03-01", ["03-03", "04-01"]), ("0 12 31W * *", "2031-08-01", ["08-29", "10-31"]),
        ("0 12 * * 1#1", "2031-03-01", ["03-03", "04-07"]), ("0 12 * * fri#5", "2031-01-01", ["01-31", "05-30"]),
        ("0 12 * * 5L", "2031-03-01", ["03-28", "04-25"]), ("0 12 13 * 5", "2031-06-01", ["06-06", "06-13", "06-20"]),
        ("0 12 */2 * 5", "2031-06-01", ["06-13", "06-27", "07-11"]), ("0 12 ? * sun", "2031-03-01", ["03-02", "03-09"]),
        ("0 12 * * 7", "2031-03-01", ["03-02", "03-09"]), ("0 12 * * sat-mon", "2031-03-01", ["03-01", "03-02", "03-03", "03-08"]),
        ("0 12 1 nov-feb *", "2031-03-01", ["11-01", "12-01", "01-01", "02-01", "11-01"]), ("0 12 30-2 * *", "2031-03-29", ["03-30", "03-31", "04-01", "04-02", "04-30"]),
        ("@monthly", "2031-03-02", ["04-01", "05-01"]), ("@weekly", "2031-03-03", ["03-09", "03-16"]),
    ],
)  # fmt: skip
def test_special_days(expression: str, start: str, expected: list[str]) -> None:
    at = dt.datetime.fromisoformat(start).replace(tzinfo=UTC) - MINUTE
    made, found = cron(expression, "UTC"), []
    for _ in expected:
        at = made.after(at)  # type: ignore[assignment]
        found.append(f"{at:%m-%d}")
    assert found == expected


def test_six_fields_wrapping_hours_and_rare_days() -> None:
    assert [f"{t:%H:%M:%S}" for t in cron("*/20 59 22-1 * * *", "UTC").between("2031-03-03", "2031-03-04")][:4] == [
        "00:59:00", "00:59:20", "00:59:40", "01:59:00",
    ]  # fmt: skip
    monday = cron("0 0 29 2 *", "UTC")
    assert monday.after("2096-03-01") == dt.datetime(2104, 2, 29, tzinfo=UTC), "2100 is no leap year"
    assert cron("0 0 * 2 1#5", "UTC").after("2031-01-01") == dt.datetime(2044, 2, 29, tzinfo=UTC)


def test_gap_and_fold_as_asked() -> None:
    day, autumn = ("2031-03-30", "2031-03-31"), ("2031-10-26", "2031-10-27")

    def fires(expression: str, span: tuple[str, str], **how: str) -> list[str]:
        return [f"{t.astimezone(UTC):%H:%M}" for t in cron(expression, "Atlantic/Faroe", **how).between(*span)]  # type: ignore[arg-type]

    assert fires("30 1 * * *", day) == ["01:30"], "shifted by the hour: 02:30 by the clock"
    assert fires("30 1 * * *", day, gap="skip") == []
    assert fires("30 1 * * *", autumn) == ["00:30"]
    assert fires("30 1 * * *", autumn, fold="both") == ["00:30", "01:30"]
    assert len(fires("*/30 * * * *", day)) == 46
    assert len(fires("*/30 * * * *", autumn)) == 50
    assert len(fires("*/30 * * * *", autumn, fold="first")) == 48


@pytest.mark.parametrize(
    ("expression", "says", "under"),
    [
        ("61 * * * *", "61 is out of range in the minute field (0-59)", "61"), ("* 24 * * *", "hour field (0-23)", "24"),
        ("* * 0 * *", "day of the month field (1-31)", "0"), ("* * * 13 *", "month field (1-12 or jan-dec)", "13"),
        ("* * * * 8", "day of the week field (0-7 or sun-sat)", "8"), ("* * * foo *", "'foo' instead of a number or name", "foo"),
        ("*/0 * * * *", "the step is '0', not a number from 1", "0"), ("1,,2 * * * *", "an empty entry", ","), ("* * * * mon#6", "#6 is not a week of a month", "#6"),
        ("5-x * * * *", "'x' instead of a number", "x"), ("* * L-40 * *", "before the first day", "L-40"), ("- * * * *", "nothing", "-"),
    ],
)  # fmt: skip
def test_wrong_fields_are_pointed_at(expression: str, says: str, under: str) -> None:
    with pytest.raises(CronError) as caught:
        cron(expression)
    message = str(caught.value)
    assert says in message
    _, text, caret = message.split("\n")
    assert text[caret.index("^") :].startswith(under)


@pytest.mark.parametrize("expression", ["0 0 30 2 *", "0 0 31 4,6,9,11 *", "0 0 31W 2 *", "* * L-30 2 *"])
def test_what_can_never_fire_is_reported(expression: str) -> None:
    with pytest.raises(CronError, match="can never fire"):
        cron(expression)


@pytest.mark.parametrize("expression", ["", "* * * *", "* * * * * * *", "@often", "*"])
def test_what_is_no_expression(expression: str) -> None:
    with pytest.raises(CronError):
        cron(expression)


@settings(max_examples=400)
@given(st.text(alphabet="0123456789*/,-LW#?@ abcdefjmnorstuvy\t", max_size=24) | st.text(max_size=30))
def test_no_text_breaks_the_parser(text: str) -> None:
    try:
        made = cron(text, "Atlantic/Faroe")
    except IronClockError:
        return
    made.after("2031-03-30T00:00")
    assert made.describe()


@pytest.mark.parametrize(
    ("expression", "words"),
    [
        ("0 */24 * * *", "at minute 0 of hour 0 of the day"),
        ("30 1 * * *", "every day at 01:30"), ("*/15 * * * *", "every 15 minutes"), ("* * * * *", "every minute"),
        ("0 9-17 * * 1-5", "hourly from 09:00 to 17:00 on Monday to Friday"), ("0 12 L * *", "at 12:00 on the last day of the month"),
        ("0 6 * * 1#1", "at 06:00 on the first Monday"), ("0 0 13 * 5", "at 00:00 on day 13 of the month or on any Friday"),
        ("0 0 */2 * 1", "at 00:00 on every 2nd day (1, 3, 5, 7, 9, 11, 13, 15, 17, 19, 21, 23, 25, 27, 29 and 31) of the month if that is Monday"),
        ("5 4 1 1,7 *", "at 04:05 on day 1 of January and July"), ("0 */6 * * *", "at minute 0 of every 6th hour"),
        ("*/10 30 8 * * *", "every 10 seconds of minute 30 of hour 8"), ("0,10 30 8 * * *", "every day at seconds 0 and 10 of minute 30 of hour 8"), ("* * * * * *", "every second"), ("0 0 LW * *", "at 00:00 on the last workday of the month"),
        # What fires is said, and not the number after the stroke.
        ("*/61 * * * *", "at minute 0 of every hour"), ("*/59 * * * *", "at minutes 0 and 59 of every hour"),
        ("*/40 * * * *", "at minutes 0 and 40 of every hour"), ("*/59 * * * * *", "at seconds 0 and 59 of every minute"),
        ("*/7 * * * *", "at minutes 0, 7, 14, 21, 28, 35, 42, 49 and 56 of every hour"),
        ("*/7 9 * * *", "every day at every 7th minute (0, 7, 14, 21, 28, 35, 42, 49 and 56) of hour 9"),
        ("0 */23 * * *", "at minute 0 of every 23rd hour (0 and 23)"),
        ("*/20 */40 * * * *", "every 20 seconds of minutes 0 and 40 of every hour"),
        ("0 0 L-3 * *", "at 00:00 on the 3rd day before the last day of the month"),
        ("0 12 29 2 1", "at 12:00 on day 29 of February or on any Monday in February"),
        ("0-7 * * * *", "at minutes 0 to 7 of every hour"), ("0 0-7 * * *", "every day hourly from 00:00 to 07:00"),
    ],
)  # fmt: skip
def test_words(expression: str, words: str) -> None:
    assert cron(expression).describe() == words


def test_the_same_words_mean_the_same_instants(exhaustive: bool) -> None:
    chance, by_words = random.Random(5), defaultdict(set)
    spans = [
        ("2031-02-25", "2031-03-05"),
        ("2031-03-29", "2031-04-01"),
        ("2031-10-25", "2031-10-28"),
        ("2031-12-30", "2032-01-03"),
    ]
    days = ["L", "L-3", "LW", "15W", "1W,15", "L,1", "31W"]
    weekdays = ["1#1", "fri#5", "5L", "mon#2,tue", "sat-mon", "7", "1-5", "0-6"]
    for _ in range(1200 if exhaustive else 200):
        words = random_expression(chance).split()
        if chance.random() < 0.3:
            words[2] = chance.choice(days)
        if chance.random() < 0.3:
            words[4] = chance.choice(weekdays)
        expression = " ".join([chance.choice(["0", "*/20", "10,40"]), *words] if chance.random() < 0.2 else words)
        try:
            made = cron(expression, "Atlantic/Faroe")
        except CronError:
            continue
        assert isinstance(made, Cron)
        instants = tuple(int(ns) for span in spans for ns in made.between(*span).ns)
        by_words[made.describe()].add(instants)
    assert len(by_words) > (300 if exhaustive else 50)
    assert all(len(found) == 1 for found in by_words.values())


def expression_of_any_kind(chance: random.Random) -> str:
    """Return an expression of five or six fields, with steps that do not fit, lists, names and the marks L, W and #."""
    days = ["L", "L-3", "LW", "15W", "1W,15", "L,1", "31W", "*/2", "1-5", "L-2,10-12,20"]
    weekdays = ["1#1", "fri#5", "5L", "mon#2,tue", "sat-mon", "7", "1-5", "0-6", "*/2", "2L,3#3"]

    def field(first: int, last: int, star: float) -> str:
        if chance.random() < star:
            return "*"
        low = chance.randint(first, last)
        high = chance.randint(low, last)
        step = chance.randint(2, last - first + 2)
        listed = ",".join(str(chance.randint(first, last)) for _ in range(chance.randint(1, 6)))
        return chance.choice([str(low), f"{low}-{high}", f"*/{step}", f"{low}-{high}/{chance.randint(1, 9)}", listed])

    fields = [field(0, 59, 0.25), field(0, 23, 0.35), field(1, 31, 0.5), field(1, 12, 0.7), field(0, 6, 0.5)]
    if chance.random() < 0.3:
        fields[2] = chance.choice(days)
    if chance.random() < 0.3:
        fields[4] = chance.choice(weekdays)
    if chance.random() < 0.2:
        fields.insert(0, field(0, 59, 0.1))
    return " ".join(fields)


def test_words_that_are_read_back_give_the_same_firings(exhaustive: bool) -> None:
    """Somebody who knows only the words finds each time of day, and each date of two years."""
    chance, read = random.Random(11), set()
    first, days = dt.date(2031, 1, 1), 731
    calendar = [first + dt.timedelta(n) for n in range(days)]  # with 29 February 2032
    while len(read) < (2_500 if exhaustive else 250):
        expression = expression_of_any_kind(chance)
        try:
            made = cron(expression, "UTC")
        except CronError:
            continue  # it never fires
        assert isinstance(made, Cron)
        time, date = read_words.split(cron(expression).describe())
        # The date, at a time of its own: a year of every second would take long.
        at_noon = " ".join(["0 12", *expression.split()[-3:]])
        on_dates = cron(at_noon, "UTC")
        assert isinstance(on_dates, Cron)
        assert read_words.split(cron(at_noon).describe())[1] == date, expression
        fits = read_words.dates(date)
        expected = [day for day in calendar if fits(day)]
        assert [at.date() for at in on_dates.between("2031-01-01", "2033-01-01")] == expected, (expression, date)
        if expected:
            next_day = expected[0] + dt.timedelta(1)
            found = made.between(expected[0].isoformat(), next_day.isoformat())
            assert [(at.hour, at.minute, at.second) for at in found] == sorted(read_words.times(time)), (
                expression,
                time,
            )
        read.add(expression)
