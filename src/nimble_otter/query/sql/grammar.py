"""What texts of a dialect look like, by the parser's name of it: its words, its quotes, its comments, and what a
server reads otherwise than a parser does."""

from __future__ import annotations

import re
from dataclasses import dataclass

from nimble_otter.translation import tr


@dataclass(frozen=True, slots=True)
class Grammar:
    """Regular expressions of texts, quoted names and comments, which may be unfinished while they are typed; `keywords`
    are words of this dialect only. `runs_comments`: a comment may hold what is run; `setting_quotes`: what a backslash
    means is a setting; `unicode_escapes`: names may be written by code points; `shows`: SHOW only reads;
    `explains_names`: EXPLAIN takes a table or a connection; `continues_comments`: a backslash at the end of a comment
    takes it to the next line; `guarded_prefix` begins functions of which only those known to read are taken for
    reading; `knows_aliases_everywhere`: in WHERE, too, a name means the column of the result that is called so."""

    keywords: str = ""
    texts: str = r"'(?:[^']|'')*'?"
    names: str = r"\"(?:[^\"]|\"\")*\"?"
    comments: str = r"--[^\n]*|/\*.*?(?:\*/|$)"
    runs_comments: bool = False
    setting_quotes: bool = False
    unicode_escapes: bool = False
    shows: bool = False
    explains_names: bool = False
    continues_comments: bool = False
    guarded_prefix: str = ""
    knows_aliases_everywhere: bool = False


_COLLECTIONS = Grammar("unnest|lateral|ordinality|interval|filter|any|explain")
_GRAMMARS = {
    "": _COLLECTIONS,
    "sqlite": Grammar(
        "glob|pragma|without|rowid|attach|vacuum|autoincrement|replace|regexp|match|indexed|isnull|notnull",
        names=Grammar().names + r"|`[^`]*`?|(?<![\w\])])\[[^\]]*\]?",
    ),
    "postgres": Grammar(
        "lateral|similar|only|fetch|grouping|sets|rollup|cube|filter|within|materialized|conflict|do|nothing|"
        "tablesample|array|interval|extract|analyze|explain|copy|language|returns",
        texts=Grammar().texts + r"|(?<!\w)\$(?P<tag>\w*)\$.*?(?:\$(?P=tag)\$|$)",
        unicode_escapes=True, shows=True, guarded_prefix="pg_",
    ),
    "mysql": Grammar(
        "straight_join|regexp|rlike|div|mod|xor|interval|duplicate|ignore|replace|force|procedure|call|show|"
        "describe|explain|sql_calc_found_rows|high_priority|partition",
        texts=r"'(?:[^'\\]|''|\\.)*'?|\"(?:[^\"\\]|\\.)*\"?", names=r"`[^`]*`?",
        comments=Grammar().comments + r"|\#[^\n]*",
        runs_comments=True, setting_quotes=True, shows=True, explains_names=True,
    ),
    "spark": Grammar(
        "lateral|explode|rlike|qualify|cube|rollup|grouping|sets|tablesample|pivot|unpivot|semi|anti|interval|describe|"
        "explain|show|distribute|sort|cluster|array|map|struct|overwrite|partitioned|parquet",
        texts=r"'(?:[^'\\]|\\.)*'?|\"(?:[^\"\\]|\\.)*\"?", names=r"`(?:[^`]|``)*`?", shows=True, explains_names=True,
        continues_comments=True,
    ),
    "clickhouse": Grammar(
        "prewhere|final|sample|array|global|any|asof|semi|anti|qualify|limit|settings|format|explain|describe|show|"
        "exists|lateral|rollup|cube|totals|grouping|sets|interval|ilike",
        explains_names=True, knows_aliases_everywhere=True,
        texts=r"'(?:[^'\\]|''|\\.)*'?|\$(?P<tag>\w*)\$.*?(?:\$(?P=tag)\$|$)",
        names=r"`(?:[^`\\]|``|\\.)*`?|\"(?:[^\"\\]|\"\"|\\.)*\"?", shows=True,
        comments=Grammar().comments + r"|\#[^\n]*",
    ),
}  # fmt: skip


def grammar_of(parser: str) -> Grammar:
    """That of a dialect; what the standard says for one that is not known."""
    return _GRAMMARS.get(parser) or Grammar()


def oddity(text: str, grammar: Grammar, plain_quotes: bool) -> str:
    """What lets a server read a text otherwise than a parser does; "" for nothing. `plain_quotes`: the server does not
    take a backslash for an escape."""
    if grammar.runs_comments and re.search(r"/\*M?!", text):
        return tr("it holds a comment that the server runs")
    if grammar.continues_comments and re.search(r"--[^\n]*\\\r?\n", text):
        return tr("it holds a comment that goes on in the next line")
    if grammar.setting_quotes and plain_quotes and "\\" in text:
        return tr("it holds a backslash, which this server reads in its own way")
    if grammar.unicode_escapes and re.search(r"(?<!\w)U&[\"']", text, re.IGNORECASE):
        return tr("it holds a name or text in Unicode escapes")
    return ""
