"""Functions that completion offers, with their arguments, by dialect. Names and arguments are those of the servers' own
manuals (PostgreSQL 15, MariaDB 10.11, SQLite 3.40)."""

from __future__ import annotations

_ALL = """abs(x) avg(x) coalesce(x, y, …) count(*) count(distinct x) lower(text) max(x) min(x) nullif(x, y)
round(x, digits) sum(x) trim(text) upper(text) replace(text, from, to) row_number() rank() dense_rank() lag(x) lead(x)
first_value(x) last_value(x) ntile(n) cast(x as type)"""
_OWN = {
    "sqlite": """length(text) substr(text, start, length) date(time) time(time) datetime(time) julianday(time)
strftime(format, time) unixepoch(time) group_concat(x, separator) iif(condition, x, y) ifnull(x, y) instr(text, part)
json_extract(json, path) json_each(json) printf(format, …) random() total(x) typeof(x) hex(x) quote(x)""",
    "postgres": """length(text) substring(text from start for length) date_trunc(unit, time) extract(unit from time)
to_char(x, format) to_date(text, format) now() age(time, time) string_agg(x, separator) array_agg(x) jsonb_agg(x)
greatest(x, y, …) least(x, y, …) position(part in text) split_part(text, separator, n) regexp_replace(text, pattern, to)
percentile_cont(share) within group (order by x) generate_series(start, stop) unnest(array) ceil(x) floor(x) power(x, y)
concat(x, y, …) left(text, n) right(text, n) jsonb_array_elements(json)""",
    "mysql": """char_length(text) substring(text, start, length) date(time) date_format(time, format)
date_add(time, interval n unit) date_sub(time, interval n unit) timestampdiff(unit, from, to) now() curdate()
group_concat(x separator ',') ifnull(x, y) if(condition, x, y) concat(x, y, …) greatest(x, y, …) least(x, y, …)
locate(part, text) year(time) month(time) day(time) str_to_date(text, format) ceil(x) floor(x) json_extract(json, path)
left(text, n) right(text, n) regexp_replace(text, pattern, to)""",
}


def functions_of(dialect: str) -> list[str]:
    """Each as "name(arguments)"."""
    names: list[str] = []
    for part in f"{_ALL}\n{_OWN.get(dialect, '')}".replace("\n", " ").split(") "):
        for call in [part.strip()] if part.strip() else []:
            names.append(call if call.endswith(")") else f"{call})")
    return sorted(names)
