"""Keeping an open pull: its file, and its versions at every run and save."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from nimble_otter.desktop.pulls.aspect import Aspect
from nimble_otter.desktop.pulls.pull_state import PullState
from nimble_otter.errors import SavedError
from nimble_otter.pull import pull_to_text, save_pull
from nimble_otter.pull.versions import Version, key_of
from nimble_otter.translation import tr


class PullVersions:
    """One for each open pull."""

    def __init__(self, own: PullState) -> None:
        self._own = own

    @property
    def _version_key(self) -> str:
        return key_of(self._own.path, self._own.number)

    def all(self) -> list[Version]:
        """The pull as it was at every run and save, the latest at the end."""
        return self._own.hub.versions.all(self._version_key)

    def keep(self, why: str) -> None:
        """Keep the pull as it is now, in the background."""
        key, text = self._version_key, pull_to_text(self._own.pull)
        self._own.hub.keep(
            f"{self._own.key} version", lambda: self._own.hub.versions.add(key, why, text), tr("The version")
        )

    def save(self, path: Path) -> None:
        """Raises: SavedError."""
        if path.exists() and path != self._own.path and path.is_dir():
            raise SavedError(tr("{path} is a folder.", path=path))
        pull = (
            replace(self._own.pull, name=path.stem) if not self._own.path or path != self._own.path else self._own.pull
        )
        save_pull(pull, path)
        if not self._own.waits:  # it was made here, or has run here
            self._own.hub.note_known(pull)
        before = self._version_key
        self._own.pull, self._own.path, self._own.saved_text = pull, path, pull_to_text(pull)
        if before != self._version_key:
            with suppress(OSError):  # the pull itself is saved; its past is kept where it was
                self._own.hub.versions.move(before, self._version_key)
        self.keep("saved")
        self._own.tell(Aspect.PULL)
