"""What there is: sources, tables, pulls, deliveries. Aligned on a terminal, with tabs in a pipe, or as JSON."""

from __future__ import annotations

import json
import sys
from argparse import Namespace
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from nimble_otter.cli.delivery import Terminal, saved_sources, source_named, with_password
from nimble_otter.cli.flags import UsageError
from nimble_otter.cli.terminal import note, tell
from nimble_otter.errors import SourceError
from nimble_otter.sources.catalogue import how_many
from nimble_otter.translation import tr, tr_value

if TYPE_CHECKING:
    from nimble_otter.sources import Source

Line = dict[str, object]


def show(lines: Sequence[Line], as_json: bool) -> int:
    """Print lines, all with the same names."""
    if as_json:
        tell(json.dumps(lines, ensure_ascii=False, indent=1))
        return 0
    if not lines:
        note(tr("Nothing to list."), sys.stderr)
        return 0
    texts = [list(lines[0]), *(["" if value is None else str(value) for value in line.values()] for line in lines)]
    if sys.stdout.isatty():
        widths = [max(map(len, column)) for column in zip(*texts, strict=True)]
        rows = ["  ".join(text.ljust(width) for text, width in zip(row, widths, strict=True)) for row in texts]
    else:
        rows = ["\t".join(row) for row in texts[1:]]  # for other programs: without a heading
    for row in rows:
        tell(row.rstrip())
    return 0


def sources(options: Namespace) -> int:
    """`sources`: list, add, test or remove saved sources, or hand one on as a file."""
    does = {"list": _list, "add": _add, "test": _test, "remove": _remove, "export": _export, "import": _import}
    return does[options.what](options)


def _list(options: Namespace) -> int:
    return show([{"name": source.name, "kind": source.word, "address": source.url, "environment": source.stage,
                  "marks": " ".join(["read-only"] * source.is_read_only + ["care"] * source.care)}
                 for source in saved_sources()], options.json)  # fmt: skip


def _export(options: Namespace) -> int:
    from nimble_otter.sources.saved import export_source

    if not options.name or not options.address:
        raise UsageError(tr("sources export needs a NAME and a FILE."))
    export_source(_saved(options), Path(options.address))
    note(
        tr("{options_name} is in {address}, without its password.", options_name=options.name, address=options.address)
    )
    return 0


def _import(options: Namespace) -> int:
    from nimble_otter.sources.saved import import_source

    if not options.name:
        raise UsageError(tr("sources import needs a FILE, and takes another NAME."))
    read = import_source(Path(options.name))
    options.name, options.address = options.address or read.name, read.url
    options.stage, options.care, options.read_only = read.stage, read.care, read.read_only
    return _add(options)


def _add(options: Namespace) -> int:
    from nimble_otter.pull import places
    from nimble_otter.sources.saved import change_sources
    from nimble_otter.sources.secrets import remember
    from nimble_otter.sources.source import Source

    if not options.name or not options.address:
        raise UsageError(tr("sources add needs a NAME and an ADDRESS."))
    given = source_named(options.address, options.password_file)
    made = Source(options.name, given.url, options.stage, options.care, options.read_only,
                  password_command=options.password_command, secret=given.secret)  # fmt: skip
    assert made.driver
    if any(source.name == made.name for source in saved_sources()):
        raise UsageError(tr("There is a source {made_name}; remove it first.", made_name=made.name))
    change_sources(places.config_folder() / "sources.toml", lambda saved: [*saved, made])
    if made.secret is not None and not remember(made.url, made.secret.reveal()):
        tell(tr("The password is not kept: no keyring takes it. Give it by NIMBLE_OTTER_PASSWORD."), sys.stderr)
    note(f"{made.name}: {made.url}")
    return 0


def _saved(options: Namespace) -> Source:
    found = next((source for source in saved_sources() if source.name == options.name), None)
    if found is None:
        known = ", ".join(source.name for source in saved_sources())
        raise SourceError(
            tr("There is no source {options_name}.", options_name=options.name), tr("There are {known}.", known=known)
        )
    return found


def _test(options: Namespace) -> int:
    with Terminal().connected(with_password(_saved(options), options.password_file)) as connection:
        note(
            tr(
                "{options_name}: connected, {how_many}",
                options_name=options.name,
                how_many=how_many(len(connection.names())),
            )
        )
    return 0


def _remove(options: Namespace) -> int:
    from nimble_otter.pull import places
    from nimble_otter.sources.saved import change_sources
    from nimble_otter.sources.secrets import forget

    source = _saved(options)
    if source.url.startswith("demo:"):
        raise UsageError(tr("The demo's sources are not saved ones."))
    if source.is_shared:
        raise UsageError(
            tr(
                "{source_name} is the team's; remove it in the window, or its file in {team_folder}.",
                source_name=source.name,
                team_folder=places.team_folder(),
            )
        )
    change_sources(places.config_folder() / "sources.toml", lambda saved: [s for s in saved if s.name != source.name])
    forget(source.url)
    note(tr("{source_name} was removed; pulls that use it keep its address.", source_name=source.name))
    return 0


def tables(options: Namespace) -> int:
    """`tables` without a place to send to: what a source has."""
    with Terminal().connected(source_named(options.source, options.password_file)) as connection:
        infos = connection.tables()
    return show([{"name": t.name, "kind": t.kind.value, "rows": t.rows, "comment": t.comment} for t in infos],
                options.json)  # fmt: skip


def describe(options: Namespace) -> int:
    """`describe`: the columns of a table, with keys and references."""
    with Terminal().connected(source_named(options.source, options.password_file)) as connection:
        infos = connection.tables()
    table = next((t for t in infos if t.name == options.table), None)
    if table is None:
        from nimble_otter.query.parsed import nearest

        near = nearest(options.table, [t.name for t in infos])
        raise SourceError(
            tr("There is no table {table}.", table=options.table),
            tr("The nearest name is {near}.", near=near) if near else "",
        )
    return show(
        [
            {
                "column": c.name,
                "type": c.declared,
                "key": c.key or None,
                "null": "" if c.nullable else tr("NOT NULL"),
                "default": c.default,
                "refers to": c.refers,
            }
            for c in table.columns
        ],
        options.json,
    )


def find(options: Namespace) -> int:
    """`find`: where a value is, a line for each column that has it; exit code 1 where none has, as grep's."""
    from nimble_otter.sources.search import Sought, find_value

    sought = Sought(options.value, options.match_case, options.word, options.regex)
    names = {name.strip() for name in options.names.split(",") if name.strip()}
    around = Terminal()
    with around.connected(source_named(options.source, options.password_file)) as connection:
        tables = [table for table in connection.tables() if table.name in names or not names]
        if missing := names - {table.name for table in tables}:
            raise UsageError(tr("There is no table {missing}.", missing=", ".join(sorted(missing))))
        hits = list(find_value(connection, tables, sought, progress=around.progress(tr("tables searched:"))))
    for hit in hits:
        if hit.problem:
            tell(tr("{table} can't be searched: {problem}", table=hit.table, problem=hit.problem), sys.stderr)
    found = [hit for hit in hits if not hit.problem]
    lines: list[Line] = [{"table": h.table, "column": h.column, "rows": h.rows, "examples": " | ".join(h.examples)}
                         for h in found]  # fmt: skip
    return show(lines, options.json) or int(not found)


def shelf(options: Namespace) -> int:
    """`shelf`: the saved pulls."""
    from nimble_otter.errors import SavedError
    from nimble_otter.pull import places
    from nimble_otter.pull.file import SUFFIX, load_pull

    lines: list[Line] = []
    for path in [found for folder in places.shelf_folders() for found in sorted(folder.rglob(f"*{SUFFIX}"))]:
        try:
            source = load_pull(path).source.name
        except SavedError as problem:
            source = f"({problem.message})"
        lines.append({"name": path.stem, "source": source, "file": str(path)})
    return show(lines, options.json)


def team(options: Namespace) -> int:
    """`team`: who changed what in its folder, the newest first. Raises: UsageError, where none is set; SavedError."""
    from nimble_otter.pull import places
    from nimble_otter.team_changes import team_changes

    folder = places.team_folder()
    if folder is None:
        raise UsageError(tr("No folder of the team is set; name it in the settings or by NIMBLE_OTTER_TEAM."))
    return show(
        [
            {
                "at": c.at,
                "who": c.who,
                "what": tr("{what} the {kind} {name}", what=tr_value(c.what), kind=tr_value(c.kind), name=c.name),
                "said": c.said,
                "file": c.file,
            }
            for c in team_changes(folder, options.most)
        ],
        options.json,
    )


def history(options: Namespace) -> int:
    """`history`: the last deliveries, the newest first."""
    from nimble_otter.pull import places
    from nimble_otter.pull.account import deliveries

    delivereds = deliveries(places.state_folder(), options.pull, options.most)
    return show([{"at": d.at, "pull": d.pull, "source": d.source, "rows": d.rows, "bytes": d.bytes, "file": d.path,
                  "by": d.by, "outcome": d.outcome, "said": d.said}
                 for d in delivereds], options.json)  # fmt: skip
