"""Texts that try to write where only reading is asked for: built at random from what each server's lexer and grammar
allows, so that nobody had to think of each."""

import random

PAYLOADS = {
    "postgres": [
        "delete from victim", "drop table victim", "truncate victim", "insert into victim values (99, 'x')",
        "update victim set word = 'x'", "create table planted (a int)", "alter table victim add planted int",
        "set default_transaction_read_only = off", "alter system set work_mem = '5MB'", "alter role otter superuser",
        "alter database merrow set work_mem = '5MB'", "copy victim to '{folder}/planted'",
        "copy victim to program 'touch {folder}/planted'", "lock table victim", "listen planted", "vacuum victim",
        "prepare planted as delete from victim", "declare planted cursor with hold for select 1",
        "reindex table victim",
        "grant all on victim to otter", "comment on table victim is 'x'", "select pg_advisory_lock(7)", "checkpoint",
        "select lo_creat(-1)", "select lo_from_bytea(0, 'x')", "select setval('numbers', 77)",
        "select nextval('numbers')",
        "select set_config('default_transaction_read_only', 'off', false)", "select pg_switch_wal()", "discard all",
        "select * into planted from victim", "create temp table planted (a int)",
        "do $$ begin delete from victim; end $$",
        "select pg_create_restore_point('x')", "select planted()", "call planting()", "refresh materialized view kept",
        "select pg_terminate_backend(pid) from pg_stat_activity where application_name = 'nobody'",
        "security label is 'x'",
        "merge into victim using victim v on true when matched then delete", "select pg_notify('a', 'b')",
        "select query_to_xml('select nextval(''numbers'')', true, true, '')", "notify planted", "load 'auto_explain'",
        "select * from victim for update", "create or replace view high as select 1 as a", "set role otter",
        "reset all",
        "select pg_read_file('/etc/hostname')", "select pg_reload_conf()",
        "import foreign schema x from server y into z",
    ],
    "mysql": [
        "delete from victim", "drop table victim", "truncate table victim", "insert into victim values (99, 'x')",
        "update victim set word = 'x'", "replace into victim values (1, 'x')", "create table planted (a int)",
        "alter table victim add planted int", "set session transaction read write", "set global max_connections = 77",
        "select * from victim into outfile '{folder}/planted'", "select 1 into dumpfile '{folder}/planted2'",
        "lock tables victim write", "handler victim open", "select get_lock('planted', 0)", "optimize table victim",
        "analyze table victim", "check table victim", "repair table victim", "rename table victim to planted",
        "load data infile '/etc/hostname' into table victim", "call planting()", "do get_lock('planted', 0)",
        "select planted()", "flush tables with read lock", "purge binary logs before now()", "kill 999999",
        "select next value for numbers", "select nextval(numbers)", "select setval(numbers, 77)",
        "shutdown wait for all",
        "prepare planted from 'delete from victim'", "execute immediate 'delete from victim'", "xa start 'planted'",
        "grant all on *.* to planted@localhost identified by 'x'", "create user planted",
        "select * from victim for update",
        "select word into @planted from victim", "set password = 'x'", "select * from victim lock in share mode",
        "begin not atomic delete from victim; end", "create procedure planted2() delete from victim", "use mysql",
        "install soname 'ha_archive'", "select load_file('/etc/hostname')", "select benchmark(1, sha1('x'))",
        "reset master",
    ],
    "sqlite": [
        "delete from victim", "drop table victim", "insert into victim values (99, 'x')",
        "update victim set word = 'x'",
        "replace into victim values (1, 'x')", "create table planted (a)", "create temp table planted (a)", "reindex",
        "attach '{folder}/planted' as planted", "vacuum into '{folder}/planted'", "vacuum", "pragma journal_mode = wal",
        "pragma writable_schema = 1", "pragma user_version = 7", "pragma query_only = off", "analyze", "detach main",
        "pragma wal_checkpoint", "pragma optimize", "select load_extension('x')", "alter table victim add planted",
        "create trigger planted after insert on victim begin delete from victim; end", "pragma application_id(7)",
        "select writefile('{folder}/planted', 'x')", "pragma temp_store_directory = '{folder}'",
        "pragma locking_mode=exclusive",
        "create virtual table planted using fts5(a)", "savepoint planted", "pragma incremental_vacuum",
        "pragma shrink_memory",
    ],
}  # fmt: skip
_LEAD = {
    "postgres": ["select 1", "select '{q}'", "select E'{q}'", "select $a${q}$a$", "select U&'{q}'", "values (1)",
    "table victim",
                 "with a as (select 1) select * from a", "explain select 1", "select \"{n}\" from victim", "show all"],
    "mysql": ["select 1", "select '{q}'", 'select "{q}"', "select `{n}` from victim", "values (1)", "table victim",
              "with a as (select 1) select * from a", "explain select 1", "show tables", "select N'{q}'",
              "select _utf8'{q}'"],
    "sqlite": ["select 1", "select '{q}'", 'select "{q}"', "select [{n}]", "select `{n}` from victim", "values (1)",
               "with a as (select 1) select * from a", "explain select 1", "explain query plan select 1",
               "pragma user_version"],
}  # fmt: skip
_QUOTED = [
    "\\",
    "\\'",
    "''",
    "\\''",
    "a''b\\",
    '"',
    "\\\\",
    "-- ",
    "/*",
    "*/",
    "$a$",
    "$$",
    "`",
    "\n",
    "\\\n",
    "é\u2028",
]
_NAMES = ["word", "wo``rd", 'wo""rd', "wo]rd", "a\\", "word--"]
_BREAKS = [
    ";",
    "; ",
    ";\n",
    " ;;",
    "\n;\n",
    "';",
    '";',
    "*/;",
    "--\n;",
    "\\';",
    "$a$;",
    "\u00a0;",
    "\x0b;",
    "\f;",
    " union all ",
    ", (",
    " where (",
]
_TAILS = [
    "",
    " --",
    "--'",
    " #",
    "/*",
    "';",
    " -- '",
    ")",
    ") --",
    "; commit",
    "; commit --'",
    "\n--",
    "*/",
    "\\",
    "$a$",
    "\0",
]
_WRAPS = {
    "postgres": ["{p}", "with d as ({p}) select 1", "with d as ({p} returning *) select * from d",
    "explain analyze {p}",
                 "explain (analyze, format json) {p}", "explain (a, b, analyze) {p}", "EXPLAIN(ANALYZE) {p}",
                 "begin; {p}; commit",
                 "commit; {p}", "commit; begin read write; {p}; commit", "end; {p}", "rollback; {p}", "/* /* */ */ {p}",
                 "do $x$ begin {p}; end $x$", "(({p}))", "select * from ({p}) q", "select ({p})",
                 "set transaction read write; {p}",
                 "prepare transaction 'x'; {p}", "abort; start transaction read write; {p}; commit", "\ufeff{p}",
                 "--x\r{p}"],
    "mysql": ["{p}", "with d as (select 1) {p}", "explain analyze {p}", "analyze {p}", "analyze format=json {p}",
    "/*! {p} */",
              "/*!50000 {p} */", "/*M! {p} */", "/*M!100000 ; {p} */", "1 /*! ; {p} */", "commit; {p}",
              "begin; {p}; commit",
              "set session transaction read write; commit; {p}; commit", "--1; {p}", "--\t1\n{p}", "# x\n{p}",
              "(({p}))",
              "select * from ({p}) q", "begin not atomic {p}; end", "execute immediate '{p}'", "delimiter //\n{p}//",
              "\ufeff{p}",
              "if 1 then {p}; end if", "select 1 procedure analyse(); {p}", "xa end 'x'; {p}",
              "for i in 1..2 do {p}; end for"],
    "sqlite": ["{p}", "with x(a) as (select 1) {p}", "explain {p}", "explain query plan {p}", "commit; {p}", "end; {p}",
               "rollback; begin; {p}; commit", "(({p}))", "select * from ({p})", "/* x */ {p}", "--x\n{p}",
               "savepoint a; {p}", "\ufeff{p}"],
}  # fmt: skip


def hostile_texts(dialect, count, seed, folder):
    """`count` different texts; each tries to have one of the payloads run."""
    dice, made = random.Random(f"{dialect} {seed}"), set()
    while len(made) < count:
        payload = dice.choice(PAYLOADS[dialect]).replace("{folder}", folder)
        wrapped = dice.choice(_WRAPS[dialect]).replace("{p}", payload)
        if dice.random() < 0.25:
            text = wrapped
        else:
            lead = dice.choice(_LEAD[dialect])
            lead = lead.replace("{q}", dice.choice(_QUOTED)).replace("{n}", dice.choice(_NAMES))
            lead += dice.choice(
                ["", "", " --1", "--1", " #x", " /*", " /*!", " /*! ", "/**/", " -- x\n", " \\g", " limit 1"]
            )
            text = lead + dice.choice(_BREAKS) + wrapped + dice.choice(_TAILS)
        if dice.random() < 0.2:
            text = "".join(c.upper() if dice.random() < 0.5 else c for c in text)
        if dice.random() < 0.1:
            at = dice.randrange(len(text) + 1)
            text = (
                text[:at]
                + dice.choice(["'", '"', "`", "\\", "/*", "*/", "--", ";", "\n", "\t", "\u00a0", ":a"])
                + text[at:]
            )
        made.add(text)
    return sorted(made)


STAGES = [
    {"$out": "planted"}, {"$out": {"db": "planted", "coll": "x"}}, {"$merge": "planted"},
        {"$merge": {"into": "victim"}},
    {"$merge": {"into": {"db": "planted", "coll": "x"}, "whenMatched": "replace"}}, {"$unheardOf": 1},
        {"$currentOp": {}},
]  # fmt: skip


def hostile_pipelines(count, seed):
    """Pipelines with a stage that writes somewhere inside."""
    dice, made = random.Random(f"stages {seed}"), []
    harmless = [{"$match": {}}, {"$limit": 1}, {"$project": {"a": 1}}, {"$sort": {"a": 1}}, {"$addFields": {"b": 1}}]
    for _ in range(count):
        inner = [*dice.choices(harmless, k=dice.randrange(3)), dice.choice(STAGES)]
        for _ in range(dice.randrange(3)):
            way = dice.randrange(4)
            inner = [
                [{"$facet": {"a": [{"$limit": 1}], "b": inner}}],
                [{"$lookup": {"from": "victim", "as": "x", "pipeline": inner}}],
                [{"$unionWith": {"coll": "victim", "pipeline": inner}}],
                [*dice.choices(harmless, k=2), *inner],
            ][way]
        made.append(inner)
    return made
