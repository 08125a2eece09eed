"""What is told of a pull or of something done, with how grave it is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import Enum


class Severity(Enum):
    """INFO is said in the plain colour; a WARNING in that of problems."""

    INFO = "info"
    WARNING = "warning"


@dataclass(frozen=True, slots=True)
class Notice:
    """False where nothing is told."""

    text: str = ""
    severity: Severity = Severity.INFO

    def __bool__(self) -> bool:
        return bool(self.text)

    @property
    def is_warning(self) -> bool:
        """Whether it warns."""
        return self.severity is Severity.WARNING

    def and_also(self, text: str) -> Notice:
        """With something more behind it, as grave as before."""
        return replace(self, text=f"{self.text}; {text}" if self.text else text)


NOTHING = Notice()


def warning(text: str) -> Notice:
    """A notice that warns."""
    return Notice(text, Severity.WARNING)
