"""The demo's survey on a relational server: the same tables, keys and rows as in the SQLite file."""

from sqlalchemy import (
    MetaData,
    create_engine,
    event,
    types,
)

_KINDS = [types.LargeBinary(), types.Boolean(), types.DateTime(), types.Date(), types.Integer(), types.Float(53)]


def copy_survey(path, url):
    """Copy every table with its keys and rows, and the views as text."""
    source, target = create_engine(f"sqlite:///{path}"), create_engine(url)
    metadata = MetaData()

    @event.listens_for(metadata, "column_reflect")
    def plain(inspector, table, info):
        known = types.Float(53) if isinstance(info["type"], types.Numeric) else info["type"]
        kind = next((made for made in _KINDS if isinstance(known, type(made))), types.String(200))
        info["type"], info["default"] = kind, None

    metadata.reflect(source)
    for table in metadata.tables.values():
        table.indexes.clear()
        for constraint in list(table.constraints):
            if constraint.__visit_name__ == "check_constraint":
                table.constraints.discard(constraint)
    metadata.create_all(target)
    with source.connect() as have, target.begin() as want:
        for table in metadata.sorted_tables:
            rows = [dict(row._mapping) for row in have.execute(table.select())]
            for start in range(0, len(rows), 2000):
                want.execute(table.insert(), rows[start : start + 2000])
        view = have.exec_driver_sql("select sql from sqlite_master where name = 'high_water'").scalar_one()
        want.exec_driver_sql(view.replace("%", "%%"))
    source.dispose()
    target.dispose()
