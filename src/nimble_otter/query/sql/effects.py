"""What a statement does: told by parsing it in the dialect of its server, never by its first word alone.

A text only reads when all of it was understood: one statement, of a verb on the list, with no part that writes, locks
or stores at any depth, and no function known to do so. What can't be parsed does not count as reading. The lists of
functions are checked against the servers' own catalogues in tests/conformance/test_guard.py.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from nimble_otter.query.lazy import exp, sqlglot
from nimble_otter.query.sql.grammar import grammar_of, oddity
from nimble_otter.query.sql.statements import parameter_places
from nimble_otter.translation import tr

if TYPE_CHECKING:
    from sqlglot.tokenizer_core import Token

LONGEST = 4_000_000
"""Characters of a text beyond which it is not read, and so counts as unknown."""
_SEVERAL = tr("it holds several statements")


class Effect(StrEnum):
    """READS rows; writes ROWS (or locks them, or calls what may); DEFINES tables and rights; CONTROLS the transaction,
    session or server; UNKNOWN: it could not be read."""

    READS = "reads"
    ROWS = "rows"
    DEFINES = "defines"
    CONTROLS = "controls"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Verdict:
    """`why` says what keeps a statement from being a reading one; "" for one that reads."""

    effect: Effect
    why: str = ""

    @property
    def reads(self) -> bool:
        """Whether the text only reads."""
        return self.effect is Effect.READS


_ROWS = {"insert", "update", "delete", "merge", "replace", "call", "do", "exec", "execute", "load", "copy", "upsert"}
_DEFINES = {
    "create", "drop", "alter", "truncate", "rename", "comment", "grant", "revoke", "reindex", "vacuum", "refresh",
    "reassign", "import", "attach", "detach", "optimize", "repair", "analyze", "install", "uninstall", "cluster",
    "security",
}  # fmt: skip
_CONTROLS = {
    "set", "reset", "begin", "start", "commit", "rollback", "savepoint", "release", "abort", "end", "lock", "unlock",
    "use",
    "kill", "shutdown", "flush", "purge", "handler", "prepare", "deallocate", "declare", "fetch", "move", "close",
    "listen", "unlisten", "notify", "discard", "checkpoint", "cache", "change", "stop", "xa", "binlog", "pragma",
    "reload", "signal", "resignal", "backup", "help", "check", "checksum",
}  # fmt: skip

_EVERYWHERE = r"nextval|setval|load_extension|sys_exec|sys_eval|sys_set|sys_get|writefile|edit|readfile|xp_\w+"
_WRITERS: Mapping[str, re.Pattern[str]] = {
    "postgres": re.compile(
        rf"(?<!\w)(?:{_EVERYWHERE}|dblink\w*|lo_\w+|lowrite|loread|set_config|ts_stat|ts_rewrite|crosstab\w*|connectby"
        r"|(?:query|cursor|table|schema|database)_to_xml\w*|pg_(?:terminate|cancel)_backend|pg_reload_conf"
        r"|pg_rotate_logfile\w*|pg_switch_\w+|pg_create_\w+|pg_drop_\w+|pg_promote|pg_file_\w+|pg_read_\w+|pg_ls_\w+"
        r"|pg_stat_file|pg_stat_reset\w*|pg_stat_statements_reset|pg_stat_clear\w*|pg_(?:try_)?advisory_\w+"
        r"|pg_import_\w+|pg_replication_\w+|pg_logical_\w+|pg_copy_\w+|pg_export_snapshot|pg_start_backup|pg_stop_backup"
        r"|pg_backup_\w+|pg_notify|pg_prewarm|pg_wal_replay_\w+|pg_log_\w+|pg_truncate_\w+|heap_force_\w+|pg_nextoid"
        r"|pg_set_\w+|brin_\w+|gin_clean_pending_list|binary_upgrade_\w+|txid_current|pg_current_xact_id|plpgsql_\w+"
        r"|pg_stop_making_pinned_objects|pg_force_\w+|pg_restore_\w+|pg_clear_\w+|pg_sync_\w+|setseed|amcheck\w*"
        r"|bt_index_\w+|http_\w+|plv8\w*|autoprewarm_\w+)(?!\w)",
        re.IGNORECASE,
    ),
    "mysql": re.compile(
        rf"(?<!\w)(?:{_EVERYWHERE}|get_lock|release_lock|release_all_locks|load_file|benchmark|outfile|dumpfile"
        r"|master_pos_wait|master_gtid_wait|source_pos_wait|wait_for_executed_gtid_set\w*"
        r"|wait_until_sql_thread_after_gtids|next\s+value|lib_mysqludf\w*|spider_\w+|gtid_subtract_lock"
        r"|service_\w+lock\w*|asynchronous_connection_\w+|group_replication_\w+|keyring_\w+|audit_\w+|mysql_firewall\w*"
        r"|set_firewall_mode|version_tokens_\w+)(?!\w)",
        re.IGNORECASE,
    ),
    "sqlite": re.compile(rf"(?<!\w)(?:{_EVERYWHERE}|fts3_tokenizer|fileio_write|zipfile)(?!\w)", re.IGNORECASE),
    "spark": re.compile(
        rf"(?<!\w)(?:{_EVERYWHERE}|reflect|try_reflect|java_method|http_request|ai_\w+|(?:try_)?secret|remote_query)(?!\w)"
        r"|(?<!\w)(?:transform|map|reduce)\b[\s\S]*\busing\b\s*[\"']",
        re.IGNORECASE,
    ),
    "clickhouse": re.compile(
        rf"(?<!\w)(?:{_EVERYWHERE}|file|url\w*|s3\w*|gcs|hdfs\w*|azure\w*|cosn|oss|remote\w*|cluster\w*|executable"
        r"|mysql|postgresql|mongodb|redis|sqlite|jdbc|odbc|arrowflight|ytsaurus|iceberg\w*|delta\w*|hudi\w*|paimon\w*"
        r"|input|dictionary|catboostevaluate|filesystem|fuzz\w*|ai\w+|hive|prometheus\w*|generateserialid|outfile"
        r"|infile|dictget\w*)[\s`\"]*(?=\(|')|(?<!\w)settings\s+\w+\s*=",
        re.IGNORECASE,
    ),
    "": re.compile(
        rf"(?<!\w)(?:{_EVERYWHERE}|dblink\w*|lo_\w+|set_config|dbms_\w+|utl_\w+|openrowset|opendatasource|openquery|"
        r"pg_(?:terminate|cancel)_backend|get_lock|load_file|outfile|dumpfile)(?!\w)",
        re.IGNORECASE,
    ),
}
"""Functions that change something beside the rows they give, or read the server's own files. Found as words anywhere in
a text, in quotes too: wherever the server's lexer and the parser's could differ, the word is still there."""

_EXPLAINED = re.compile(r"[\w`.$]+(?:\s+[\w`%']+)?|for\s+connection\s+\d+")
"""A table with a column, or a connection."""
_PG_ALLOWED = re.compile(
    r"pg_(?:get_\w+|stat_get_\w+|size_\w+|\w+_size|\w*_is_visible|typeof|collation_for|column_\w+|backend_pid|client_encoding"
    r"|encoding_to_char|char_to_encoding|describe_object|identify_\w+|is_\w+|has_\w+|input_\w+|conf_load_time|postmaster_start_time"
    r"|current_(?:snapshot|wal_\w+|logfile)|last_\w+|xact_\w+|visible_in_snapshot|snapshot_\w+|safe_snapshot_\w+|blocking_pids"
    r"|options_to_table|partition_\w+|sequence_\w+|timezone_\w+|show_\w+|lock_status|index\w*|trigger_depth|sleep\w*"
    r"|jit_available|my_temp_schema|relation_\w+|tablespace_\w+|filenode_\w+|isolation_test_session_is_blocked"
    r"|listening_channels|wal_lsn_diff|walfile_\w+|char_\w+|prepared_\w+|cursor|settings_get_flags|extension_\w*config_dump"
    r"|available_\w+|config|control_\w+|hba_file_rules|ident_file_mappings|event_trigger_\w+|mcv_list_\w+|node_tree_\w+"
    r"|ndistinct_\w+|dependencies_\w+|lsn_\w+|ddl_command_\w+|snapshot\w*|tables?_\w+|nextoid|column_is_updatable"
    r"|relation_is_updatable|basetype|encoding_max_length|lsn|extension_update_paths)",
    re.IGNORECASE,
)
"""Functions of PostgreSQL's own whose name begins with pg_ and that only tell something; every other one counts as
writing."""

TELLING_PRAGMAS_OF = {
    "table_info", "table_xinfo", "table_list", "index_list", "index_info", "index_xinfo", "foreign_key_list",
    "foreign_key_check", "database_list", "collation_list", "function_list", "module_list", "pragma_list",
    "compile_options", "integrity_check", "quick_check",
}  # fmt: skip
TELLING_PRAGMAS = TELLING_PRAGMAS_OF | {
    "user_version", "schema_version", "application_id", "encoding", "page_count", "page_size", "freelist_count",
    "journal_mode", "auto_vacuum", "foreign_keys", "synchronous", "cache_size", "data_version", "max_page_count",
    "read_uncommitted",
}  # fmt: skip
_PRAGMA = re.compile(r"\s*pragma\s+(?:\w+\.)?(\w+)\s*(\(\s*[\w\"'.]+\s*\))?\s*;?\s*\Z", re.IGNORECASE)
_SHOW = re.compile(r"\s*show\s[^;]*\Z", re.IGNORECASE)
_EXPLAIN = re.compile(
    r"\s*(?P<verb>explain|describe|desc|analyze)\b(?P<options>\s*\((?P<listed>[^()]*)\)|(?:\s+(?:analyze|verbose|query|plan|"
    r"extended|partitions|format\s*=\s*\w+))*)\s*",
    re.IGNORECASE,
)
_NUMBERS = re.compile(r"(?<=\d)(?:[ \t]*,[ \t]*\d+)+(?=[ \t]*,[ \t]*\d)")
"""The inside of a list of numbers in one line, which takes long to parse. It may be left out: whatever quotes or
comment it stands in, it holds no quote and no line end, so that it hides nothing and nothing is hidden by its going."""
_LAST = re.compile(r"[;\s]*\Z")


_IN_TRANSACTION = frozenset(("insert", "update", "delete", "replace", "select", "with", "values", "table", "show",
                             "explain", "describe", "do", "call", "savepoint", "release", "("))  # fmt: skip


def classify(text: str, dialect: str, plain_quotes: bool = False) -> Verdict:
    """What one statement does. `dialect` is the parser's name of it ("" where it is not known); `plain_quotes`: the
    server takes a backslash in quotes for itself, other than the dialect does by default."""
    return _classify(text, dialect, plain_quotes)


@lru_cache(maxsize=64)
def _classify(text: str, dialect: str, plain_quotes: bool) -> Verdict:
    text = _NUMBERS.sub("", text)
    if (odd := _oddity(text, dialect, plain_quotes)) is not None:
        return Verdict(Effect.UNKNOWN, odd)
    body = _LAST.sub("", text)
    match = _EXPLAIN.match(body)
    if match and body[match.end() :]:
        verdict = _explained(body[match.end() :], match, dialect)
        if verdict is not None:
            return verdict
    tokens, why = _tokens(body, dialect)
    if tokens is None:
        return _unread(body, why)
    if not tokens:
        return Verdict(Effect.READS)
    if not _agree_on_parameters(body, tokens):
        return Verdict(Effect.UNKNOWN, tr("where its quotes end can't be told"))
    first = str(tokens[0].text).lower().split()[0]
    if first == "pragma":
        return _pragma(body)
    if first == "show" and grammar_of(dialect).shows and _SHOW.match(body):
        return _without_writers(body, dialect) or Verdict(Effect.READS)
    root, why = _parsed(body, tokens, dialect)
    if root is None:
        return _unread(body, why)
    if isinstance(root, exp.Query) or first == "values":
        if reason := _reason_in(root, dialect):
            return Verdict(Effect.ROWS, reason)
        return _without_writers(body, dialect) or Verdict(Effect.READS)
    return _of_verb(first, root)


def parse(text: str, dialect: str) -> exp.Expr | None:
    """The tree of one statement; None where it can't be parsed or is several."""
    body = _LAST.sub("", text)
    tokens, _ = _tokens(body, dialect)
    return _parsed(body, tokens, dialect)[0] if tokens else None


def of_transaction(text: str) -> str:
    """ "begin", "commit" or "rollback" for a statement that only says that; else ""."""
    from nimble_otter.query.sql.scopes import tokens_of

    words = " ".join(t.low for t in tokens_of(text))
    if words in ("begin", "begin transaction", "begin work", "start transaction"):
        return "begin"
    if words in ("commit", "commit work", "commit transaction", "end", "end transaction"):
        return "commit"
    return "rollback" if words in ("rollback", "rollback work", "rollback transaction", "abort") else ""


def may_commit(text: str) -> bool:
    """Whether a statement may end the open transaction of a server that commits before it defines something (MariaDB
    documentation, "SQL statements that cause an implicit commit"): every one that is not known to leave it open."""
    from nimble_otter.query.sql.scopes import tokens_of

    words = [token.low for token in tokens_of(text)]
    if words[:1] == ["set"]:
        return "autocommit" in words or "password" in words
    return bool(words) and words[0] not in _IN_TRANSACTION


def changes_catalogue(text: str) -> bool:
    """Whether tables or columns may be others after it."""
    from nimble_otter.query.sql.scopes import tokens_of

    tokens = tokens_of(text)
    return bool(tokens) and tokens[0].low in ("create", "drop", "alter", "rename", "comment")


# --- parts -----------------------------------------------------------------------------------------------------


def _oddity(text: str, dialect: str, plain_quotes: bool) -> str | None:
    """What lets a server read a text otherwise than a parser does."""
    if len(text) > LONGEST:
        return tr("it is longer than {longest:,} characters", longest=LONGEST)
    if "\0" in text:
        return tr("it holds a zero byte")
    return oddity(text, grammar_of(dialect), plain_quotes) or None


def _tokens(text: str, dialect: str) -> tuple[list[Token] | None, str]:
    try:
        return list(sqlglot.Dialect.get_or_raise(dialect or None).tokenize(text)), ""
    except (sqlglot.errors.SqlglotError, RecursionError, ValueError) as problem:
        return None, str(problem).split(".")[0]


def _parsed(text: str, tokens: Sequence[Token], dialect: str) -> tuple[exp.Expr | None, str]:
    try:
        results = sqlglot.Dialect.get_or_raise(dialect or None).parser().parse(_without_lists(tokens), text)
    except (
        sqlglot.errors.SqlglotError, RecursionError, ValueError, TypeError, AttributeError, KeyError, IndexError,
    ) as p:  # fmt: skip
        return None, str(p).split(".")[0]
    trees = [tree for tree in results if tree is not None and not isinstance(tree, exp.Semicolon)]  # comments alone
    if len(trees) != 1:
        return None, _SEVERAL
    return trees[0], ""


def _without_lists(tokens: Sequence[Token]) -> list[Token]:
    """Long lists of plain values cut to one each: they tell nothing of what a statement does, and take most time."""
    if len(tokens) < 400:
        return list(tokens)
    plain = {sqlglot.TokenType.NUMBER, sqlglot.TokenType.STRING}
    comma = sqlglot.TokenType.COMMA
    kept: list[Any] = []
    skip = False
    for at, token in enumerate(tokens):
        if skip:
            skip = False
            continue
        if (
            token.token_type is comma
            and kept
            and kept[-1].token_type in plain
            and len(kept) > 1
            and kept[-2].token_type in (comma, sqlglot.TokenType.L_PAREN)
            and at + 2 < len(tokens)
            and tokens[at + 1].token_type in plain
            and tokens[at + 2].token_type in (comma, sqlglot.TokenType.R_PAREN)
        ):
            skip = True
            continue
        kept.append(token)
    return kept


def _agree_on_parameters(text: str, tokens: Sequence[Token]) -> bool:
    """Whether the parameters that will be bound are those that the dialect's own lexer sees outside of quotes."""
    starts = []
    for token, after in itertools.pairwise(tokens):
        at = token.start
        adjoins = after.start == token.end + 1 and (text[after.start].isalpha() or text[after.start] == "_")
        if token.text == ":" and adjoins and not (at and (text[at - 1].isalnum() or text[at - 1] in "_:")):
            starts.append(at)
    return starts == [start for start, _, _ in parameter_places(text)]


def _reason_in(root: exp.Expr, dialect: str) -> str:
    """What in a query writes; "" for nothing."""
    prefix = grammar_of(dialect).guarded_prefix
    for node in root.walk():
        if isinstance(node, (exp.Insert, exp.Update, exp.Delete, exp.Merge)):
            return tr("it holds {name}", name=type(node).__name__.upper())
        if isinstance(node, exp.Into):
            return tr("INTO stores what it selects")
        if isinstance(node, exp.Lock):
            return tr("it locks the rows it selects")
        if isinstance(node, (exp.Command, exp.Create, exp.Drop, exp.Alter, exp.TruncateTable, exp.Copy, exp.Set)):
            return tr("it holds {name}", name=type(node).__name__.upper())
        if isinstance(node, exp.NextValueFor):
            return tr("it takes a number from a sequence")
        if prefix and isinstance(node, exp.Anonymous):
            name = str(node.name).lower()
            if name.startswith(prefix) and not _PG_ALLOWED.fullmatch(name):
                return tr("{name} may change something", name=name)
    return ""


def names_a_writer(text: str, dialect: str) -> str:
    """A function that may change something, named anywhere in the text; "" for none."""
    match = _WRITERS.get(dialect, _WRITERS[""]).search(text)
    return match[0].lower() if match else ""


def _without_writers(text: str, dialect: str) -> Verdict | None:
    value = names_a_writer(text, dialect)
    return Verdict(Effect.ROWS, tr("{value} may change something", value=value)) if value else None


def _explained(rest: str, found: re.Match[str], dialect: str) -> Verdict | None:
    """EXPLAIN runs nothing unless it says ANALYZE; ANALYZE and DESCRIBE before a query likewise. None: not such a
    one."""
    verb, listed = found["verb"].lower(), (found["listed"] or "").lower()
    words = set(re.findall(r"\w+", f"{listed} {found['options'] or ''}".lower()))
    first = (re.match(r"[\s(]*(\w+)", rest) or [""])[0].strip(" (\n\t").lower()
    known = first in ("select", "with", "insert", "update", "delete", "replace", "merge", "values", "table")
    if not known or (verb != "explain" and first == "table"):
        if verb == "analyze":
            return None
        if grammar_of(dialect).explains_names and re.fullmatch(
            r"[\w`.$]+(?:\s+[\w`%']+)?|for\s+connection\s+\d+", rest.strip()
        ):
            return Verdict(Effect.READS)
        return None if verb != "explain" else Verdict(Effect.UNKNOWN, tr("what it explains can't be read"))
    inner = _classify(rest, dialect, False)
    runs = verb == "analyze" or "analyze" in words
    if inner.reads or inner.effect is Effect.UNKNOWN or runs:
        return inner
    return Verdict(Effect.READS) if _without_writers(rest, dialect) is None else inner


def _pragma(text: str) -> Verdict:
    match = _PRAGMA.match(text)
    allowed = TELLING_PRAGMAS_OF if match and match[2] else TELLING_PRAGMAS
    if match and match[1].lower() in allowed:
        return Verdict(Effect.READS)
    return Verdict(Effect.CONTROLS, tr("this PRAGMA may change something"))


def _of_verb(first: str, root: object) -> Verdict:
    if isinstance(root, (exp.Insert, exp.Update, exp.Delete, exp.Merge)) or first in _ROWS:
        return Verdict(Effect.ROWS, tr("{first} writes", first=first.upper()))
    if first in _DEFINES or isinstance(root, (exp.Create, exp.Drop, exp.Alter, exp.TruncateTable)):
        return Verdict(Effect.DEFINES, tr("{first} changes what there is", first=first.upper()))
    if first in _CONTROLS:
        return Verdict(Effect.CONTROLS, tr("{first} changes the session or the server", first=first.upper()))
    return Verdict(Effect.UNKNOWN, tr("{first} is not known to only read", first=first.upper()))


def _unread(text: str, why: str) -> Verdict:
    """By its first word, for showing; it never counts as reading."""
    words = re.findall(r"[^\W\d_]\w*", re.sub(r"--[^\n]*|/\*.*?(?:\*/|\Z)|'[^']*'", " ", text, flags=re.DOTALL).lower())
    first = words[0] if words else ""
    if first == "with":
        first = next((w for w in words if w in ("insert", "update", "delete", "merge", "replace")), first)
    if why == _SEVERAL:
        return Verdict(Effect.UNKNOWN, why)
    for effect, verbs in ((Effect.ROWS, _ROWS), (Effect.DEFINES, _DEFINES), (Effect.CONTROLS, _CONTROLS)):
        if first in verbs:
            return Verdict(effect, tr("{first} does more than read", first=first.upper()))
    return Verdict(Effect.UNKNOWN, tr("it can't be read whole"))


# --- documents -------------------------------------------------------------------------------------------------

_STAGES = {
    "$match", "$project", "$addFields", "$set", "$unset", "$group", "$sort", "$limit", "$skip", "$unwind", "$lookup",
    "$graphLookup", "$count", "$facet", "$sample", "$bucket", "$bucketAuto", "$replaceRoot", "$replaceWith",
    "$sortByCount", "$unionWith", "$redact", "$geoNear", "$indexStats", "$collStats", "$setWindowFields", "$densify",
    "$fill", "$documents", "$search", "$searchMeta", "$vectorSearch", "$planCacheStats", "$rankFusion", "$scoreFusion",
}  # fmt: skip


def stages_that_write(pipeline: Sequence[object]) -> Iterator[str]:
    """Names of stages, at any depth, that are not known to only read. Source: the aggregation stages of the MongoDB
    protocol's query language."""
    for stage in pipeline:
        if not isinstance(stage, Mapping) or len(stage) != 1:
            yield tr("a stage that is not one name with its value")
            continue
        name, value = next(iter(stage.items()))
        if name not in _STAGES:
            yield str(name)
        elif isinstance(value, Mapping):
            inner = [value.get("pipeline")] if name != "$facet" else list(value.values())
            for part in inner:
                if isinstance(part, Sequence) and not isinstance(part, str):
                    yield from stages_that_write(part)
