"""How values look where a pull does not say it: for all pulls, as its user has set it. What is sent is not touched."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, replace

from nimble_otter.table.core.columns import Field, Kind
from nimble_otter.table.text.column_format import PLAIN, time_text

_NUMBERS = (Kind.INT, Kind.FLOAT, Kind.DECIMAL, Kind.OBJECT)


@dataclass(frozen=True, slots=True)
class UsualLooks:
    """`null` stands for NULL; `groups`: thin spaces between thousands; `date` and `time` are patterns of Unicode TS
    #35 ("": ISO 8601), `zone` an IANA zone for times that have one ("": UTC); `stripes`: every second row shaded."""

    null: str = "∅"
    groups: bool = True
    date: str = ""
    time: str = ""
    zone: str = ""
    stripes: bool = False

    def of(self, field: Field) -> Field:
        """A field as it is shown: what its pull says of its look comes first."""
        look = field.look or PLAIN
        if field.kind in _NUMBERS and not self.groups and look.groups is None:
            look = replace(look, groups=False)
        elif field.kind is Kind.DATE and self.date and not look.pattern:
            look = replace(look, pattern=self.date)
        elif field.kind in (Kind.TIME, Kind.ZONED):
            zone = self.zone if field.kind is Kind.ZONED and not look.zone else look.zone
            look = replace(look, pattern=look.pattern or self.time, zone=zone)
        return field if look == (field.look or PLAIN) else replace(field, look=look)

    def day(self, value: dt.date) -> str:
        """A day as a text."""
        return time_text(value, self.date) if self.date else value.isoformat()


class _Now:
    looks = UsualLooks()


def usual_looks() -> UsualLooks:
    """Those in force."""
    return _Now.looks


def use_looks(looks: UsualLooks) -> None:
    """Have these in force."""
    _Now.looks = looks
