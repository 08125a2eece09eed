"""What is asked of the desktop over its session bus: the size of text, and showing a notification.

The bus may be absent, slow or without the service: each call has a short patience, and what fails is only logged.
Notifications are sent from a lane of `jobs`; the size of text is asked once, before the window is made.
Specifications: XDG Desktop Portal (Settings), Desktop Notifications Specification 1.2.
"""

from __future__ import annotations

import logging
import os
from typing import Any

from nimble_otter import APPLICATION_ID

log = logging.getLogger(__name__)
_PATIENCE_S = 0.4


def _call(path: str, service: str, interface: str, method: str, signature: str, body: tuple[object, ...]) -> Any:
    """The answer's values; None where there is none."""
    if not os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
        return None
    try:
        from jeepney import DBusAddress, MessageType, new_method_call
        from jeepney.io.blocking import open_dbus_connection

        with open_dbus_connection("SESSION") as connection:
            message = new_method_call(DBusAddress(path, service, interface), method, signature, body)
            reply = connection.send_and_get_reply(message, timeout=_PATIENCE_S)
        if reply.header.message_type is MessageType.error:
            log.info("%s of %s was refused", method, service)
            return None
        return reply.body
    except Exception as problem:  # noqa: BLE001 - whatever a bus does, the window goes on without it
        log.info("%s of %s failed: %s", method, service, type(problem).__name__)
        return None


def text_scale() -> float:
    """How much larger than usual the desktop wants text: of its accessibility settings, or of QT_FONT_DPI."""
    try:
        return float(os.environ["QT_FONT_DPI"]) / 96
    except (KeyError, ValueError):
        pass
    service, path = "org.freedesktop.portal.Desktop", "/org/freedesktop/portal/desktop"
    settings = ("org.gnome.desktop.interface", "text-scaling-factor")
    found = _call(path, service, "org.freedesktop.portal.Settings", "Read", "ss", settings)
    while isinstance(found, tuple) and found:  # a variant, which some services put in another one
        found = found[-1]
    return float(found) if isinstance(found, (int, float)) and 0.5 <= found <= 3 else 1.0


def notify(title: str, text: str, is_urgent: bool = False) -> bool:
    """Show a notification; whether a service took it."""
    hints = {"desktop-entry": ("s", APPLICATION_ID), "urgency": ("y", 2 if is_urgent else 1)}
    escaped = text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
    actions: list[str] = []
    body = ("Nimble Otter", 0, APPLICATION_ID, title, escaped, actions, hints, -1)
    name = "org.freedesktop.Notifications"
    return _call("/org/freedesktop/Notifications", name, name, "Notify", "susssasa{sv}i", body) is not None
