"""`chart`: a picture of a pull's rows, of one of its own charts or of one that the flags describe."""

from __future__ import annotations

import argparse
import re
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

from nimble_otter.cli.flags import UsageError, parse_parameters
from nimble_otter.cli.terminal import note
from nimble_otter.errors import SendError
from nimble_otter.pull import places
from nimble_otter.pull.charts import Chart, ChartKind, Up
from nimble_otter.pull.charts.looks import LOOKS
from nimble_otter.pull.charts.model import LEGENDS, ORDERS, PALETTES, STACKS
from nimble_otter.pull.model import Pull
from nimble_otter.pull.others import saved_path
from nimble_otter.pull.steps.group import KeyBy
from nimble_otter.table.ops.measures import AggregateFunction
from nimble_otter.translation import tr

_FORMS = ("png", "svg", "pdf")
_SIZE = re.compile(r"(\d{2,5})x(\d{2,5})")
_CALL = re.compile(r"(?P<figure>[a-z ]+?)(?: (?P<at>0?\.\d+))?\s*\(\s*(?P<column>[^)]*?)\s*\)")
_CHOICES = {"stack": STACKS, "order": ORDERS, "legend": LEGENDS, "palette": PALETTES}
_TEXTS = ("title", "x_title", "y_title", "second_title", "x_scale", "y_scale", "second_scale", "lines")
_HELP = {"lines": tr('such as "3.2 flood watch; 2 to 3 usual"'), "x_scale": tr("such as 0 to 4, log, or reversed"),
         "y_scale": tr("the same of what stands up"), "second_scale": tr("the same of the second axis")}  # fmt: skip


def add_chart(parser: argparse.ArgumentParser) -> None:
    """The words of `chart`."""
    parser.add_argument("file", metavar="FILE", help=tr("a pull file, or the name of a pull on the shelf"))
    parser.add_argument("--send", required=True, metavar="PATH", help=tr("a .png, .svg or .pdf file; - with --format"))
    parser.add_argument("--format", choices=_FORMS, help=tr("the format, where the file's name does not say it"))
    parser.add_argument(
        "--chart", default="", metavar="NAME", help=tr("one of the pull's own charts; its first unless given")
    )
    group = parser.add_argument_group(tr("another chart than the pull's"))
    group.add_argument("--kind", choices=[kind.value for kind in ChartKind])
    group.add_argument("--along", metavar="COLUMN", help=tr('what stands along the bottom, such as "taken_at by day"'))
    group.add_argument(
        "--up",
        action="append",
        default=[],
        metavar="COLUMN",
        help=tr(
            'what stands up: a column, count, or such as "mean(level_m)"; with " second" behind it on '
            "the second axis; may be given several times"
        ),
    )
    group.add_argument("--by", metavar="COLUMN", help=tr("what has colours; the other side of a heat map"))
    group.add_argument("--size", metavar="COLUMN", help=tr("the size of a scatter's marks"))
    group.add_argument("--panels", metavar="COLUMN", help=tr("a panel for each of its values"))
    for name in _TEXTS:
        group.add_argument(f"--{name.replace('_', '-')}", metavar="TEXT", help=_HELP.get(name))
    for name, choices in _CHOICES.items():
        group.add_argument(f"--{name}", choices=choices)
    group.add_argument("--top", type=int, metavar="N", help=tr("only the N largest; the rest is “other”"))
    group.add_argument("--bins", type=int, metavar="N", help=tr("of a histogram"))
    group.add_argument("--sideways", action="store_true", default=None, help=tr("bars and boxes on their side"))
    parser.add_argument("--pixels", default="960x540", metavar="WxH", help=tr("the size (960x540)"))
    parser.add_argument(
        "--scale", type=float, default=1.0, metavar="N", help=tr("pixels of a PNG for each of these (1)")
    )
    parser.add_argument("--theme", choices=tuple(LOOKS), default="light")
    parser.add_argument("--param", action="append", default=[], metavar="NAME=VALUE", help=tr("a parameter's value"))
    parser.add_argument(
        "--password-file", default="", metavar="FILE", help=tr("a file whose first line is the password")
    )
    parser.set_defaults(do=send_chart)


def send_chart(options: argparse.Namespace) -> int:
    """Draw, and write. Raises: UsageError, OtterError, OSError."""
    from nimble_otter.cli.delivery import Terminal
    from nimble_otter.pull.file import load_pull

    match = _SIZE.fullmatch(options.pixels)
    form = options.format or Path(options.send).suffix[1:].lower()
    if match is None:
        raise UsageError(tr("--pixels {pixels!r} is not WIDTHxHEIGHT, such as 960x540.", pixels=options.pixels))
    if form not in _FORMS:
        raise UsageError(
            tr("{send} says no format; end it in .png, .svg or .pdf, or give --format.", send=options.send)
        )
    if not 0.2 <= options.scale <= 8:
        raise UsageError(tr("--scale takes a number from 0.2 to 8."))
    path = saved_path(options.file, places.shelf_folders())
    pull = load_pull(path)
    values = {**pull.query.parameters, **parse_parameters(options.param)}
    pull = replace(pull, query=replace(pull.query, parameters=values))
    chart = _chart(options, pull)

    from nimble_otter.pull.charts.make import draw
    from nimble_otter.pull.charts.paint import paint
    from nimble_otter.pull.delivery import shaped_rows

    drawn = draw(shaped_rows(pull, Terminal(str(path), password_file=options.password_file)), chart)
    picture = paint(drawn, LOOKS[options.theme], (int(match[1]), int(match[2])), options.scale)
    data = picture.file(form)
    if options.send == "-":
        sys.stdout.buffer.write(data)
        sys.stdout.buffer.flush()
    else:
        from nimble_otter.files import write_bytes

        target = Path(options.send).expanduser()
        try:
            write_bytes(target, data, is_private=False)
        except OSError as problem:
            raise SendError(
                tr("{target} can't be written: {strerror}.", target=target, strerror=problem.strerror),
                tr("Choose another folder."),
            ) from problem
        note(
            tr(
                "{words}: {rows} rows as {points} points to {target}",
                words=chart.words(),
                rows=drawn.rows,
                points=picture.points,
                target=target,
            )
        )
    for line in drawn.notes:
        note(f"  {line}", sys.stderr)
    return 0


def _chart(options: argparse.Namespace, pull: Pull) -> Chart:
    """The chart that is meant: one of the pull's, with what the flags say else of it. Raises: UsageError."""
    if options.kind is None and not pull.charts:
        raise UsageError(tr("{pull_name} has no charts; say which by --kind, --along and --up.", pull_name=pull.name))
    chart = Chart(ChartKind(options.kind)) if options.kind else pull.charts[0]
    if options.chart:
        own = next((each for each in pull.charts if options.chart in (each.name, each.label)), None)
        if own is None:
            known = ", ".join(each.label for each in pull.charts) or "none"
            raise UsageError(
                tr(
                    "{pull_name} has no chart {chart}. Its charts: {known}.",
                    pull_name=pull.name,
                    chart=options.chart,
                    known=known,
                )
            )
        chart = replace(own, kind=ChartKind(options.kind)) if options.kind else own
    plain: dict[str, Any] = {
        name: getattr(options, name)
        for name in (*_TEXTS, *_CHOICES, "size", "top", "bins", "sideways")
        if getattr(options, name) is not None
    }
    plain |= {name: _key(getattr(options, name)) for name in ("along", "by", "panels") if getattr(options, name)}
    if options.up:
        plain["up"] = tuple(map(_up, options.up))
    return replace(chart, **plain)


def _key(text: str) -> KeyBy:
    column, _, part = text.partition(" by ")
    return KeyBy(column.strip(), part.strip())


def _up(text: str) -> Up:
    """ "mean(level_m)", "count", "level_m". Raises: UsageError."""
    message, is_second = text.strip().removesuffix(" second").strip(), text.strip().endswith(" second")
    if message in ("count", "rows"):
        return Up("", AggregateFunction.COUNT.value, second=is_second)
    match = _CALL.fullmatch(message)
    if match is None:
        return Up(message, second=is_second)
    figures = [figure.value for figure in AggregateFunction]
    if match["figure"] not in figures:
        raise UsageError(
            tr(
                "--up: {figure!r} is not an aggregate; available are {figures}.",
                figure=match["figure"],
                figures=", ".join(figures),
            )
        )
    return Up(match["column"], match["figure"], float(match["at"] or 0.5), is_second)
