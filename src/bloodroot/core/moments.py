"""Moments: dates and times as a policy writes them, in its zone, and durations."""

from __future__ import annotations

import datetime
import re

_UNITS = {"s": "seconds", "m": "minutes", "h": "hours", "d": "days", "w": "weeks"}
WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
# RFC 3339, section 5.6: full-date, and date-time; seconds and the offset may be left out.
_MOMENT = re.compile(
    r"(\d{4}-\d{2}-\d{2})(?:[Tt](\d{2}:\d{2}(?::\d{2}(?:\.\d{1,6})?)?)([Zz]|[+-]\d{2}:\d{2})?)?", re.ASCII
).fullmatch
_LONGEST = 36_500  # days


def zone_of(name: str | None) -> datetime.tzinfo:
    """The zone of a name such as ``Europe/Berlin``; UTC without one.

    Raises:
        ValueError: there is none of that name, or the system has no data of zones.
    """
    if name is None:
        return datetime.UTC
    import zoneinfo  # it loads a good deal, which few policies need

    try:
        return zoneinfo.ZoneInfo(name)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise ValueError(f'there is no zone "{name}"; zones are called as in Europe/Berlin') from error


def moment(text: str, zone: datetime.tzinfo | None) -> datetime.datetime | None:
    """Text in the form of RFC 3339 as a moment; None for other text, and for one without an offset and no zone.

    Args:
        text: a date, or a date with a time.
        zone: what a moment without an offset is in; None where that is not known.
    """
    match = _MOMENT(text)
    if match is None:
        return None
    date, time, offset = match.groups()
    try:
        if offset is not None:
            return datetime.datetime.fromisoformat(f"{date}T{time}{offset.upper()}")
        found = datetime.datetime.fromisoformat(f"{date}T{time or '00:00'}")
    except ValueError:
        return None
    return None if zone is None else found.replace(tzinfo=zone)


def time_of_day(text: str) -> datetime.time | None:
    """``09:00`` as a time; None where there is no such time."""
    try:
        return datetime.time.fromisoformat(text)
    except ValueError:
        return None


def duration(text: str) -> datetime.timedelta | None:
    """``24h``, ``30m`` or ``7d``; None for one longer than a hundred years."""
    number = int(text[:-1]) if len(text) < 12 else 10**12
    try:
        found = datetime.timedelta(**{_UNITS[text[-1]]: number})
    except OverflowError:
        return None
    return found if found.days <= _LONGEST else None
