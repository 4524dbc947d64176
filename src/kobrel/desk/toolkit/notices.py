"""The desktop's own notices, for when long work ends and the person is elsewhere."""

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QSystemTrayIcon, QWidget

_PORTAL = "org.freedesktop.portal"
_WAIT_MS, _SHOWN_MS = 500, 20_000


def notify(window: QWidget, title: str, text: str) -> None:
    """Tell the desktop something, unless the window is in front."""
    if window.isActiveWindow():
        return
    QApplication.alert(window)
    if not send(title, text) and QSystemTrayIcon.isSystemTrayAvailable():
        tray = QSystemTrayIcon(window.windowIcon(), window)
        tray.messageClicked.connect(window.activateWindow)
        tray.show()
        tray.showMessage(title, text, window.windowIcon())
        QTimer.singleShot(_SHOWN_MS, tray, tray.deleteLater)


def send(title: str, text: str) -> bool:
    """Send a notice through the desktop's portal; whether there is one that answers at once."""
    from PySide6.QtDBus import QDBus, QDBusConnection, QDBusMessage

    bus = QDBusConnection.sessionBus()
    if not bus.isConnected():
        return False
    message = QDBusMessage.createMethodCall(
        f"{_PORTAL}.Desktop", "/org/freedesktop/portal/desktop", f"{_PORTAL}.Notification", "AddNotification"
    )
    message.setArguments(["kobrel", {"title": title, "body": text}])
    answer = bus.call(message, QDBus.CallMode.Block, _WAIT_MS)
    return bool(answer.type() == QDBusMessage.MessageType.ReplyMessage)
