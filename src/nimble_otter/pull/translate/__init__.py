"""Steps as a server's SQL: conditions and expressions of the local language, written so that they mean the same there.
What a server works out otherwise is spelled so that it does not, announced in a note, or refused.

The meaning is PostgreSQL's (docs/local-sql.md). A file a server says what is otherwise there; read `values.py` first.
Sources: the manuals of PostgreSQL 15, MariaDB 10.11, SQLite 3.40, Spark 4.0 and ClickHouse 24.8.
"""

from collections.abc import Callable

from nimble_otter.errors import ConditionError
from nimble_otter.pull.translate.clickhouse import ClickhouseTranslator
from nimble_otter.pull.translate.conditions import Translator
from nimble_otter.pull.translate.duckdb import DuckdbTranslator
from nimble_otter.pull.translate.mariadb import MariadbTranslator
from nimble_otter.pull.translate.postgresql import PostgresqlTranslator
from nimble_otter.pull.translate.spark import SparkTranslator
from nimble_otter.pull.translate.sqlite import SqliteTranslator
from nimble_otter.table.core.columns import Table
from nimble_otter.translation import tr

__all__ = ["Translator", "translator"]

_TRANSLATORS: dict[str, type[Translator]] = {
    "postgres": PostgresqlTranslator,
    "mysql": MariadbTranslator,
    "sqlite": SqliteTranslator,
    "spark": SparkTranslator,
    "duckdb": DuckdbTranslator,
    "clickhouse": ClickhouseTranslator,
}


def translator(table: Table, parser: str, column: Callable[[int], str]) -> Translator:
    """That of a dialect by the parser's name of it; `column` gives the text of a column by its place in the table.
    Raises: ConditionError, where there is none."""
    made = _TRANSLATORS.get(parser)
    if made is None:
        raise ConditionError(tr("The SQL of this kind of source is not supported here."), tr("Filter here."))
    return made(table, column)
