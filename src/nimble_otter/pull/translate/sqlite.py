"""SQLite (https://sqlite.org/lang_corefunc.html and its kin, version 3.40): times are texts and decimals doubles."""

from __future__ import annotations

import datetime as dt

from nimble_otter.pull.translate.conditions import Translator, escaped
from nimble_otter.pull.translate.forms import form_signs
from nimble_otter.pull.translate.values import SIMPLE
from nimble_otter.query.local.meaning import MOMENTS, NUMBERS
from nimble_otter.table.core.columns import Field, Kind
from nimble_otter.table.ops.conditions import Call, ColumnAt, Literal, Operand
from nimble_otter.table.text.text_format import ANY, render
from nimble_otter.translation import tr
from nimble_otter.values import Value

DOUBLES_NOTE = tr("SQLite works with doubles: decimals may differ in their last digits.")
TEXT_TIME_NOTE = tr("The server returns such times as texts.")
_TIMES = (*MOMENTS, Kind.CLOCK, Kind.SPAN)
_WEEK = "((strftime('%j', date({0}, '-3 days', 'weekday 4')) - 1) / 7 + 1)"
_PARTS = {
    "year": "cast(substr({0}, 1, 4) as integer)", "month": "cast(substr({0}, 6, 2) as integer)",
    "day": "cast(substr({0}, 9, 2) as integer)", "hour": "cast(substr({0}, 12, 2) as integer)",
    "minute": "cast(substr({0}, 15, 2) as integer)", "quarter": "((cast(substr({0}, 6, 2) as integer) + 2) / 3)",
    "decade": "(cast(substr({0}, 1, 4) as integer) / 10)", "dow": "cast(strftime('%w', {0}) as integer)",
    "century": "((cast(substr({0}, 1, 4) as integer) + 99) / 100)", "doy": "cast(strftime('%j', {0}) as integer)",
    "millennium": "((cast(substr({0}, 1, 4) as integer) + 999) / 1000)", "week": _WEEK,
    "isodow": "((cast(strftime('%w', {0}) as integer) + 6) % 7 + 1)",
    "isoyear": "cast(strftime('%Y', date({0}, '-3 days', 'weekday 4')) as integer)",
}  # fmt: skip
_CUTS = {
    "year": "(substr({0}, 1, 4) || '-01-01 00:00:00')", "month": "(substr({0}, 1, 7) || '-01 00:00:00')",
    "day": "(substr({0}, 1, 10) || ' 00:00:00')",
    "hour": "(substr({0}, 1, 10) || ' ' || substr({0}, 12, 2) || ':00:00')",
    "minute": "(substr({0}, 1, 10) || ' ' || substr({0}, 12, 5) || ':00')",
}  # fmt: skip
_FORMS = {"YYYY": "%Y", "MM": "%m", "DD": "%d", "HH24": "%H", "MI": "%M"}


class SqliteTranslator(Translator):
    """How steps are written in the SQL of SQLite."""

    server = "SQLite"
    simple = {
        **SIMPLE, "left": "substr({0}, 1, {1})", "right": "substr({0}, -{1})", "position": "instr({0}, {1})",
        "days": "cast(julianday(substr({0}, 1, 10)) - julianday(substr({1}, 1, 10)) as integer)",
    }  # fmt: skip
    texts_of = (Kind.INT,)
    has_spread = False

    def _text(self, value: str) -> str:
        return f"cast(x'{value.encode().hex()}' as text)" if "\0" in value else super()._text(value)

    def _truth_literal(self, value: bool) -> str:
        return str(int(value))

    def _time(self, value: Value) -> str:
        if isinstance(value, dt.timedelta):
            return super()._time(value)
        return self._text(value.isoformat(" ") if isinstance(value, dt.datetime) else value.isoformat())

    def _bytewise(self, text: str, field: Field | None, op: str) -> str:
        return f"{text} collate binary" if field is not None and field.folds else text

    def _form(self, operand: Operand) -> str:
        """How the times of an operand are written; "" where not by one form."""
        if isinstance(operand, ColumnAt):
            form = self._table.fields[operand.index].form
            is_one = form.startswith(("%Y", "%H")) and not form.endswith(("Z", "?"))
            return form if is_one or form.endswith(ANY) else ""
        is_cut = isinstance(operand, Call) and operand.name == "date_trunc"
        return "%Y-%m-%d %H:%M:%S" if is_cut else ""

    def _choose_among(self, *kinds: Kind | None) -> None:
        if any(kind in _TIMES for kind in kinds):
            raise self._refuse(tr("A choice among times"))

    def _summed(self, text: str, kind: Kind | None) -> str:
        if kind is Kind.DECIMAL:
            self._note(DOUBLES_NOTE)
        return text

    # --- arithmetic ----------------------------------------------------------------------------------------------

    def _mix(self, kinds: list[Kind | None]) -> None:
        if Kind.DECIMAL in kinds:
            self._note(DOUBLES_NOTE)

    def _divided(self, sign: str, kinds: list[Kind | None], texts: list[str]) -> str:
        if kinds != [Kind.INT, Kind.INT]:
            if sign == "%":
                raise self._refuse(tr("The remainder of such numbers"))
            return f"({texts[0]} * 1.0 / {texts[1]})"
        return super()._divided(sign, kinds, texts)

    def _times_joined(self, call: Call, kinds: list[Kind | None]) -> str:
        if kinds != [Kind.DATE, Kind.DATE] or call.name != "-":
            return super()._times_joined(call, kinds)
        a, b = map(self._atom, call.args)
        return f"cast(julianday({a}) - julianday({b}) as integer)"

    def _do_moved(self, call: Call) -> str:
        raise self._refuse(tr("A date so many months later"))

    def _rounded(self, text: str, kind: Kind | None, digits: int | None) -> str:
        if (digits or 0) < 0:
            raise self._refuse(tr("Rounding before the point"))
        return super()._rounded(text, Kind.FLOAT, digits)

    def _cut(self, text: str, kind: Kind | None, digits: int) -> str:
        if digits:
            raise self._refuse(tr("Cutting such numbers"))
        return text if kind is Kind.INT else super()._cut(text, kind, digits)

    def _stepped(self, call: Call) -> str:
        text = self._number(call.args[0])
        if self._kind(call.args[0]) is Kind.INT:
            return text
        self._checked(Call(call.name, call.args, Kind.INT), f"{call.name}()")  # its own floor() stops at NULL
        whole, is_up = f"cast({text} as integer)", call.name == "ceil"
        return f"({whole} {'+' if is_up else '-'} ({text} {'>' if is_up else '<'} {whole}))"

    def _named(self, name: str) -> str:
        return "pow" if name == "power" else super()._named(name)

    # --- texts ---------------------------------------------------------------------------------------------------

    def _do_substring(self, call: Call) -> str:
        return "substr" + super()._do_substring(call).removeprefix("substring")

    def _do_concat_ws(self, call: Call) -> str:
        raise self._refuse("concat_ws()")

    def _extreme(self, name: str, texts: list[str]) -> str:
        return super()._extreme({"greatest": "max", "least": "min"}[name], texts)

    # --- times and casts -----------------------------------------------------------------------------------------

    def _extracted(self, part: str, of: Operand, kind: Kind | None) -> str:
        if part not in _PARTS or kind not in MOMENTS or not self._form(of):
            return super()._extracted(part, of, kind)
        return _PARTS[part].format(self._atom(of))

    def _begun(self, unit: str, of: Operand) -> str:
        if unit not in _CUTS or not self._form(of):
            return super()._begun(unit, of)
        self._note(TEXT_TIME_NOTE)
        return _CUTS[unit].format(self._atom(of))

    def _formed(self, of: Operand, form: str) -> str:
        signs = form_signs(form, _FORMS)
        if signs is None or not self._form(of):
            return super()._formed(of, form)
        return f"strftime({self._text(signs)}, {self._atom(of)})"

    def _first_letters(self, text: str, count: object) -> str:
        return f"substr({text}, 1, {count})"

    def _cast_to(self, call: Call, of: Operand, target: str, sizes: list[object]) -> str:
        kind = self._kind(of)
        if target == "double" and kind in (Kind.INT, Kind.DECIMAL):
            return f"cast({self._number(of) if kind in NUMBERS else self._atom(of)} as real)"
        if target == "date" and self._form(of):
            self._note(TEXT_TIME_NOTE)
            return f"substr({self._atom(of)}, 1, 10)"
        return super()._cast_to(call, of, target, sizes)

    # --- conditions ----------------------------------------------------------------------------------------------

    def _always(self, value: bool) -> str:
        return f"(1 = {int(value)})"

    def _uuid(self, operand: Operand) -> str:
        return f"replace(replace(replace(lower({self._atom(operand)}), '-', ''), '{{', ''), '}}', '')"

    def _times_compared(self, op: str, left: Operand, right: Operand) -> str:
        forms = [self._form(left), self._form(right)]
        if isinstance(left, Literal):
            return f"{self._written(left, forms[1])} {op} {self._atom(right)}"
        if isinstance(right, Literal):
            return f"{self._atom(left)} {op} {self._written(right, forms[0])}"
        if not forms[0] or forms[0] != forms[1]:
            raise self._refuse(tr("A comparison of times that are written differently"))
        return f"{self._atom(left)} {op} {self._atom(right)}"

    def _written(self, literal: Literal, form: str) -> str:
        """A time as its column writes it: texts of one form are in the order of the times."""
        value = literal.value
        if not form:
            raise self._refuse(tr("A comparison of times"))
        if isinstance(value, str) and form.startswith("%Y"):
            value = dt.datetime.fromisoformat(value.strip())
        elif isinstance(value, str):
            value = dt.time.fromisoformat(value.strip())
        if isinstance(value, dt.datetime) and value.tzinfo is not None:
            value = value.astimezone(dt.UTC).replace(tzinfo=None)
        if type(value) is dt.date:
            value = dt.datetime.combine(value, dt.time())
        if isinstance(value, dt.datetime) and form == "%Y-%m-%d":
            is_day = value.time() == dt.time()
            return self._text(value.date().isoformat() if is_day else value.isoformat(" "))
        text = str(render(value, form))
        if isinstance(value, (dt.datetime, dt.time)) and _loses(value, form):
            separator = "T" if "T%H" in form else " "
            text = value.isoformat(separator) if isinstance(value, dt.datetime) else value.isoformat()
            text = text.rstrip("0") if "." in text else text
        return self._text(text)

    def _matched(self, text: str, pattern: list[tuple[str, bool]], ignore_case: bool) -> str:
        if not ignore_case:
            wild = {"%": "*", "_": "?"}
            glob = "".join(wild[p] if is_wild else f"[{p}]" if p in "*?[" else p for p, is_wild in pattern)
            return f"{text} glob {self._text(glob)}"
        pattern_text = escaped(pattern)
        tail = " escape '!'" if "!" in pattern_text else ""
        return f"{text} like {self._text(pattern_text)}{tail}"


def _loses(value: Value, form: str) -> bool:
    """Whether a form leaves out what a time has."""
    try:
        kept = type(value).fromisoformat(str(render(value, form)))
    except ValueError:
        return True
    return bool(kept != value)
