"""Any other server that SQLAlchemy has a dialect for: opened by its URL, with what that dialect offers."""

from __future__ import annotations

from nimble_otter.sources.address import AddressForm
from nimble_otter.sources.general import GeneralConnection
from nimble_otter.sources.urls import check_options
from nimble_otter.translation import tr

_WORD = r"[\w.,\- ]{1,80}"
_OPTIONS = dict.fromkeys(
    ("charset", "encoding", "driver", "Encrypt", "TrustServerCertificate", "timeout", "connect_timeout", "sslmode",
     "ssl_mode", "service_name", "schema", "warehouse", "role", "http_path", "catalog", "auth", "protocol", "secure",
     "application_name", "tds_version", "autocommit"),
    _WORD,
)  # fmt: skip
"""Options that a URL may give to a package of which little is known: none that takes a path, a host or a statement."""


class _Other:
    key = "other"
    word = "database"
    schemes = ("*",)
    dialects = ()
    address = AddressForm(tr("Other, by URI"), 14, "dialect://user@host/name")

    def takes(self, scheme: str) -> bool:
        """Whether SQLAlchemy knows the dialect and its package is here."""
        from sqlalchemy import make_url
        from sqlalchemy.exc import SQLAlchemyError

        try:
            make_url(f"{scheme}://").get_dialect().import_dbapi()
        except (SQLAlchemyError, ImportError):
            return False
        return True

    def connect(self, url: str, password: str | None = None, clear_password: bool = False) -> GeneralConnection:
        check_options(url, _OPTIONS)
        return GeneralConnection(url, password)


DRIVER = _Other()
