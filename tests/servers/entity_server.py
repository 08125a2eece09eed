"""An OData service of another maker over the tables of an SQLite file: odatapy's, with its own store in memory. Run as
a program by its own Python: FILE PAGE, it tells its port and serves until its standard input ends."""

import datetime as dt
import sqlite3
import sys
import threading
from decimal import Decimal
from socketserver import ThreadingMixIn
from wsgiref.simple_server import WSGIRequestHandler, WSGIServer, make_server

from odatapy.data import Entity, EntityCollection, Link, ValueType
from odatapy.edm import csdl
from odatapy.server import OData
from odatapy.server.adapters import ODataWSGIApp
from odatapy.server.inmemory import InMemoryDataStore, InMemoryProcessor
from odatapy.server.processor import CustomETagSupport

TYPES = {
    "integer": ("Edm.Int64", int), "real": ("Edm.Double", float), "text": ("Edm.String", str),
    "boolean": ("Edm.Boolean", bool), "decimal": ("Edm.Decimal", lambda v: Decimal(str(v))),
    "blob": ("Edm.Binary", bytes),
    "date": ("Edm.Date", dt.date.fromisoformat),
    "timestamp": ("Edm.DateTimeOffset", lambda v: dt.datetime.fromisoformat(v).replace(tzinfo=dt.UTC)),
}  # fmt: skip


class Tables(csdl.CsdlAbstractEdmProvider):
    """The description of the tables, and their rows as entities."""

    def __init__(self, path):
        self.base = sqlite3.connect(path)
        names = [r[0] for r in self.base.execute("select name from sqlite_master where type = 'table' order by 1")]
        self.columns = {n: self.base.execute(f'pragma table_info("{n}")').fetchall() for n in names}
        self.columns = {n: c for n, c in self.columns.items() if any(each[5] for each in c)}
        self.ways = {n: [] for n in self.columns}  # name, target, own, other, is_list
        for name in self.columns:
            links = self.base.execute(f'pragma foreign_key_list("{name}")').fetchall()
            for key in links:
                if sum(k[0] == key[0] for k in links) == 1:
                    other = key[4] or next(c[1] for c in self.columns[key[2]] if c[5])
                    self.ways[name].append((f"to_{key[3]}", key[2], key[3], other, False))
                    self.ways[key[2]].append((f"{name}_by_{key[3]}", name, other, key[3], True))

    def kind(self, declared):
        return TYPES.get(declared.lower().partition("(")[0], TYPES["text"])

    def get_schemas(self):
        types, sets = [], []
        for name, columns in self.columns.items():
            keys = [c[1] for c in sorted(columns, key=lambda c: c[5]) if c[5]]
            types.append(csdl.CsdlEntityType(
                name=name, key=[csdl.CsdlPropertyRef(name=each) for each in keys],
                properties=[csdl.CsdlProperty(name=c[1], type=self.kind(c[2])[0], nullable=not (c[3] or c[5]),
                                              **({"scale": "variable"} if "decimal" in c[2].lower() else {}))
                            for c in columns],
                navigation_properties=[csdl.CsdlNavigationProperty(
                    name=way, type=f"M.{target}", collection=is_list, partner=f"to_{other}" if is_list else None,
                    referential_constraints=[] if is_list else [csdl.CsdlReferentialConstraint(own, other)])
                    for way, target, own, other, is_list in self.ways[name]]))  # fmt: skip
            bound = [csdl.CsdlNavigationPropertyBinding(w[0], w[1]) for w in self.ways[name]]
            sets.append(csdl.CsdlEntitySet(name=name, type=f"M.{name}", navigation_property_bindings=bound))
        container = csdl.CsdlEntityContainer(name="C", entity_sets=sets)
        return [csdl.CsdlSchema(namespace="M", entity_types=types, entity_container=container)]

    def fill(self, store):
        rows = {}
        for name, columns in self.columns.items():
            rows[name] = []
            for row in self.base.execute(f'select * from "{name}"'):
                entity = Entity()
                entity.type, entity.etag = f"M.{name}", 'W/"1"'
                for column, value in zip(columns, row, strict=True):
                    edm, read = self.kind(column[2])
                    given = None if value is None else read(value)
                    entity.set_property(column[1], given, ValueType.PRIMITIVE, edm)
                rows[name].append(entity)
            store.set_entities(name, rows[name])
        for name, ways in self.ways.items():
            for way, target, own, other, is_list in ways:
                met = {}
                for entity in rows[target]:
                    met.setdefault(entity.get_value(other), []).append(entity)
                for entity in rows[name]:
                    found = met.get(entity.get_value(own), []) if entity.get_value(own) is not None else []
                    entity.navigation_links.append(
                        Link(title=way, inline_entity_set=EntityCollection(entities=found)) if is_list else
                        Link(title=way, inline_entity=found[0] if found else None))  # fmt: skip


class ETags(CustomETagSupport):
    def has_etag(self, _):
        return True


class Quiet(WSGIRequestHandler):
    def log_message(self, *_):
        pass


class Threads(ThreadingMixIn, WSGIServer):
    daemon_threads = True


def main():
    tables = Tables(sys.argv[1])
    odata = OData.new_instance()
    handler = odata.create_handler(odata.create_service_metadata(tables))
    store = InMemoryDataStore()
    tables.fill(store)
    handler.register(InMemoryProcessor(store, page_size=int(sys.argv[2])))
    handler.register(ETags())
    server = make_server("127.0.0.1", 0, ODataWSGIApp(handler, "/svc"), Threads, Quiet)
    print(server.server_port, flush=True)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    sys.stdin.read()


if __name__ == "__main__":
    main()
