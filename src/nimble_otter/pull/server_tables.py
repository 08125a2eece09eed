"""How each server words a function, a part and a beginning of a time; see server_values.py."""

from __future__ import annotations

SIMPLE: dict[str, tuple[str | None, str | None, str | None]] = {
    "abs": ("abs({0})", "abs({0})", "abs({0})"), "sign": ("sign({0})", "sign({0})", "sign({0})"),
    "lower": ("lower({0})", "lower({0})", "lower({0})"), "upper": ("upper({0})", "upper({0})", "upper({0})"),
    "length": ("length({0})", "char_length({0})", "length({0})"), "neg": ("-{0}", "-{0}", "-{0}"),
    "initcap": ("initcap({0})", None, None), "reverse": ("reverse({0})", "reverse({0})", None),
    "replace": ("replace({0}, {1}, {2})",) * 3, "split_part": ("split_part({0}, {1}, {2})", None, None),
    "left": ("left({0}, {1})", "left({0}, {1})", "substr({0}, 1, {1})"),
    "right": ("right({0}, {1})", "right({0}, {1})", "substr({0}, -{1})"),
    "lpad": ("lpad({0}, {1}, {2})", "lpad({0}, {1}, {2})", None), "repeat": ("repeat({0}, {1})",) * 2 + (None,),
    "rpad": ("rpad({0}, {1}, {2})", "rpad({0}, {1}, {2})", None), "starts_with": ("starts_with({0}, {1})", None, None),
    "position": ("strpos({0}, {1})", "locate({1}, {0})", "instr({0}, {1})"),
    "in_zone": ("({1} at time zone {0})", None, None), "regexp_replace": (None, None, None),
    "days": ("({0}::date - {1}::date)", "datediff({0}, {1})", "cast(julianday({0}) - julianday({1}) as integer)"),
}  # fmt: skip
"""For PostgreSQL, MariaDB and SQLite, with the arguments in place; None: not there, or not the same."""
LEAST_ONE = ("left", "right", "lpad", "rpad", "repeat", "split_part")
"""Take a count that the servers read otherwise below 1."""
STEP = {"year": "%Y-01-01", "month": "%Y-%m-01", "hour": "%Y-%m-%d %H:00:00", "minute": "%Y-%m-%d %H:%i:00",
         "second": "%Y-%m-%d %H:%i:%s"}  # fmt: skip
PARTS_MARIADB = {
    "year": "year({0})", "quarter": "quarter({0})", "month": "month({0})", "day": "day({0})", "hour": "hour({0})",
    "minute": "minute({0})", "week": "week({0}, 3)", "dow": "(dayofweek({0}) - 1)", "isodow": "(weekday({0}) + 1)",
    "doy": "dayofyear({0})", "decade": "(year({0}) div 10)", "century": "((year({0}) + 99) div 100)",
    "millennium": "((year({0}) + 999) div 1000)", "isoyear": "(yearweek({0}, 3) div 100)",
    "second": "(second({0}) + microsecond({0}) / 1000000)",
    "microsecond": "(second({0}) * 1000000 + microsecond({0}))",
    "millisecond": "(second({0}) * 1000 + microsecond({0}) / 1000)",
    "epoch": "(timestampdiff(microsecond, '1970-01-01', {0}) / 1000000)",
}  # fmt: skip
WEEK = "((strftime('%j', date({0}, '-3 days', 'weekday 4')) - 1) / 7 + 1)"
PARTS_SQLITE = {
    "year": "cast(substr({0}, 1, 4) as integer)", "month": "cast(substr({0}, 6, 2) as integer)",
    "day": "cast(substr({0}, 9, 2) as integer)", "hour": "cast(substr({0}, 12, 2) as integer)",
    "minute": "cast(substr({0}, 15, 2) as integer)", "quarter": "((cast(substr({0}, 6, 2) as integer) + 2) / 3)",
    "decade": "(cast(substr({0}, 1, 4) as integer) / 10)", "dow": "cast(strftime('%w', {0}) as integer)",
    "century": "((cast(substr({0}, 1, 4) as integer) + 99) / 100)", "doy": "cast(strftime('%j', {0}) as integer)",
    "millennium": "((cast(substr({0}, 1, 4) as integer) + 999) / 1000)", "week": WEEK,
    "isodow": "((cast(strftime('%w', {0}) as integer) + 6) % 7 + 1)",
    "isoyear": "cast(strftime('%Y', date({0}, '-3 days', 'weekday 4')) as integer)",
}  # fmt: skip
CUT_SQLITE = {
    "year": "(substr({0}, 1, 4) || '-01-01 00:00:00')", "month": "(substr({0}, 1, 7) || '-01 00:00:00')",
    "day": "(substr({0}, 1, 10) || ' 00:00:00')",
    "hour": "(substr({0}, 1, 10) || ' ' || substr({0}, 12, 2) || ':00:00')",
    "minute": "(substr({0}, 1, 10) || ' ' || substr({0}, 12, 5) || ':00')",
}  # fmt: skip
FORM_SIGNS = {"YYYY": ("%Y", "%Y"), "MM": ("%m", "%m"), "DD": ("%d", "%d"), "HH24": ("%H", "%H"), "MI": ("%i", "%M"),
               "SS": ("%s", None)}  # fmt: skip
