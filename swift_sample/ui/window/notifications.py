"""Desktop notifications, by the open standard for them (Desktop Notifications Specification 1.2,
freedesktop.org). Where the desktop has no such service nothing happens."""

from PyQt6.QtCore import QMetaType
from PyQt6.QtDBus import QDBusArgument, QDBusConnection, QDBusMessage

SERVICE = "org.freedesktop.Notifications"
PATH = "/org/freedesktop/Notifications"
PROGRAM = "Swift Sample"
ICON = "swift-sample"
AS_THE_DESKTOP_HAS_IT = -1
_UNSIGNED = int(QMetaType.Type.UInt.value)  # type: ignore[call-overload]
_TEXT = int(QMetaType.Type.QString.value)  # type: ignore[call-overload]


def notification(title: str, text: str) -> QDBusMessage:
    """The call that shows a notification. Texts are marked up by the standard, so what looks like
    it is taken apart."""
    replaces = QDBusArgument()
    replaces.add(0, _UNSIGNED)
    actions = QDBusArgument()
    actions.beginArray(QMetaType(_TEXT))
    actions.endArray()
    plain = text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
    message = QDBusMessage.createMethodCall(SERVICE, PATH, SERVICE, "Notify")
    message.setArguments(
        [PROGRAM, replaces, ICON, title, plain, actions, {}, AS_THE_DESKTOP_HAS_IT]
    )

    return message


def notify(title: str, text: str) -> bool:
    """Show a notification without waiting for it; False where the desktop shows none."""
    bus = QDBusConnection.sessionBus()
    interface = bus.interface() if bus.isConnected() else None
    if interface is None or not interface.isServiceRegistered(SERVICE).value():
        return False

    return bool(bus.send(notification(title, text)))
