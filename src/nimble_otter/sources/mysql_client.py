"""The client libraries of MariaDB and MySQL: mysqlclient where it is installed, which is fast and needs a compiler
once, else PyMySQL, which is Python alone. Each class says how one of them is asked for the same; see
docs/decisions/028."""

from __future__ import annotations

import re
import struct
from collections.abc import Mapping, Sequence
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from nimble_otter.errors import ConnectError
from nimble_otter.translation import tr
from nimble_otter.values import ClientObject, Value

_CLIENT_FILE = Path(__file__).with_name("drivers") / "mariadb-client.cnf"
"""Ways to log in that do not send the password as it is (MariaDB Connector/C, restricted-auth)."""
_AS_WRITTEN = dict.fromkeys((12, 7, 10, 11, 246, 0), str)
"""What is kept as the server writes it, zero dates and times over 24 h included: by their numbers in the protocol
(enum_field_types) DATETIME, TIMESTAMP, DATE, TIME, NEWDECIMAL and DECIMAL."""


class _Library:
    """What is asked of both in the same words."""

    module = ""

    @classmethod
    def stream_cursor(cls) -> ClientObject:
        """The class of cursors that hold no more rows than were asked for."""
        return import_module(f"{cls.module}.cursors").SSCursor

    @classmethod
    def _converters(cls) -> dict[Any, Any]:
        return {**import_module(f"{cls.module}.converters").conversions, **_AS_WRITTEN}


class Mysqlclient(_Library):
    """mysqlclient, over MariaDB Connector/C."""

    module, scheme = "MySQLdb", "mysqldb"
    not_in_url: tuple[str, ...] = ()
    """Options of our URLs that the library does not take."""

    @classmethod
    def options(cls, url_options: Mapping[str, str], may_send_clear: bool) -> dict[str, Value]:
        """What every connection is told: values as they are written, one statement a message, no file of this machine
        for a server that asks for one, and no password as it is where the line may be open."""
        told: dict[str, Any] = {"conv": cls._converters(), "use_unicode": True, "multi_statements": False}
        told["local_infile"] = 0
        if not may_send_clear:
            told |= {"read_default_file": str(_CLIENT_FILE), "read_default_group": "nimble-otter"}
        return told

    @staticmethod
    def socket_of(driver: ClientObject) -> int | None:
        """The number of a connection's socket."""
        return int(driver.fileno()) if hasattr(driver, "fileno") else None

    @staticmethod
    def abandon(driver: ClientObject, cursor: ClientObject) -> None:
        """Nothing: the library sees by itself that the line is cut."""

    @staticmethod
    def with_values(driver: ClientObject, text: str, values: Sequence[object]) -> bytes:
        """A statement with its values put in by the library, which knows the connection's rules for texts."""
        return text.encode() % tuple(map(driver.literal, values))

    @staticmethod
    def allow_several(driver: ClientObject, is_on: bool) -> None:
        """Take several statements in one message, or one (mysql_set_server_option)."""
        driver.set_server_option(0 if is_on else 1)


class Pymysql(_Library):
    """PyMySQL. One statement a message, and no files, unless it is told otherwise."""

    module, scheme = "pymysql", "pymysql"
    not_in_url = ("ssl_mode", "ssl_ca", "ssl_cert", "ssl_key", "ssl_capath", "ssl_cipher", "compress")
    """Options of our URLs that the library does not take; those of TLS are told by `options`."""

    @classmethod
    def options(cls, url_options: Mapping[str, str], may_send_clear: bool) -> dict[str, Value]:
        """As those of mysqlclient. TLS that is asked for is had, or the connection is not."""
        told: dict[str, Any] = {"conv": cls._converters(), "local_infile": False, **_tls(url_options)}
        if not may_send_clear:
            told["auth_plugin_map"] = dict.fromkeys((b"mysql_clear_password", b"dialog"), _Refused)
        return told

    @staticmethod
    def socket_of(driver: ClientObject) -> int | None:
        """The number of a connection's socket."""
        line = getattr(driver, "_sock", None)
        return None if line is None else int(line.fileno())

    @staticmethod
    def abandon(driver: ClientObject, cursor: ClientObject) -> None:
        """Let go of rows that are left: the library would read them when the result is forgotten."""
        result = getattr(cursor, "_result", None)
        if result is not None:
            result.unbuffered_active, result.connection = False, None
        cursor.connection = None
        driver._force_close()  # noqa: SLF001 - the public way first says goodbye over a line that is cut

    @staticmethod
    def with_values(driver: ClientObject, text: str, values: Sequence[object]) -> bytes:
        """A statement with its values put in by the library, which knows the connection's rules for texts."""
        with driver.cursor() as cursor:
            return str(cursor.mogrify(text, tuple(values))).encode("utf-8", "surrogateescape")

    @staticmethod
    def allow_several(driver: ClientObject, is_on: bool) -> None:
        """Take several statements in one message, or one (COM_SET_OPTION of the protocol)."""
        from pymysql.constants import COMMAND

        driver._execute_command(COMMAND.COM_SET_OPTION, struct.pack("<H", 0 if is_on else 1))  # noqa: SLF001 - no other way
        driver._read_packet()  # noqa: SLF001 - its answer


Client = type[Mysqlclient] | type[Pymysql]


def client_for(scheme: str) -> Client:
    """The client of a URL's scheme: the one that it names, else the fast one where it is installed. Raises:
    ConnectError."""
    named = scheme.partition("+")[2]
    clients: tuple[Client, ...] = (Mysqlclient, Pymysql)
    for client in clients:
        if named in ("", client.scheme) and find_spec(client.module) is not None:
            return client
    extra = "[fast-mariadb]" if named == Mysqlclient.scheme else ""
    raise ConnectError(
        tr("The client of MariaDB is not installed."), tr("Run: pip install 'nimble-otter{extra}'", extra=extra)
    )


class _Refused:
    """A way to log in that would send the password as it is."""

    def __init__(self, connection: object) -> None:
        pass

    def authenticate(self, packet: object) -> None:
        """Raises: OperationalError, in the words that Connector/C has for it."""
        from pymysql import OperationalError

        raise OperationalError(2068, tr("the way to log in that the server asks for is not among restricted_auth"))


def _tls(options: Mapping[str, str]) -> dict[str, Value]:
    """The TLS options of a URL, which are named as mysqlclient does."""
    import ssl

    mode = options.get("ssl_mode", "")
    files = {name: options[name] for name in ("ssl_ca", "ssl_cert", "ssl_key", "ssl_capath") if name in options}
    if mode == "DISABLED":
        return {"ssl_disabled": True}
    if mode in ("", "PREFERRED") and not files:
        return {} if mode else {"ssl_disabled": True}
    try:
        context = ssl.create_default_context(cafile=files.get("ssl_ca"), capath=files.get("ssl_capath"))
        if "ssl_cert" in files:
            context.load_cert_chain(files["ssl_cert"], files.get("ssl_key"))
    except OSError as problem:  # of TLS, too
        hint = tr("Check the TLS setting and the certificate in the source.")
        raise ConnectError(tr("TLS failed: {strerror}.", strerror=problem.strerror or problem), hint) from problem
    context.check_hostname = mode == "VERIFY_IDENTITY"
    is_checked = mode in ("VERIFY_CA", "VERIFY_IDENTITY") or "ssl_ca" in files
    context.verify_mode = ssl.CERT_REQUIRED if is_checked else ssl.CERT_NONE
    context.verify_flags &= ~ssl.VERIFY_X509_STRICT  # certificates that servers make for themselves
    if "ssl_cipher" in options:
        context.set_ciphers(re.sub(r"\s", "", options["ssl_cipher"]))
    return {"ssl": context}
