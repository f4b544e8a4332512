"""Listens, on a socket of this user alone, for files that a second start wants opened."""

import json
from pathlib import Path

from PySide6.QtCore import QObject, Signal, Slot
from PySide6.QtNetwork import QLocalServer, QLocalSocket

_MOST = 1 << 20  # Bytes of a request that are believed.


class Single(QObject):
    """The first window of a user listens; others find it."""

    asked = Signal(list)  # paths

    def __init__(self, name: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._server = QLocalServer(self)
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        self._server.newConnection.connect(self._connected)
        if not self._server.listen(name):
            QLocalServer.removeServer(name)  # Left behind by a window that was killed.
            self._server.listen(name)

    def _connected(self) -> None:
        socket = self._server.nextPendingConnection()
        if socket is not None:
            socket.readyRead.connect(
                self._read
            )  # Not through a closure: it would hold this object, and let go of it inside the socket's end.
            socket.disconnected.connect(socket.deleteLater)

    @Slot()
    def _read(self) -> None:
        socket = self.sender()
        if not isinstance(socket, QLocalSocket):
            return
        if not socket.canReadLine():
            if socket.bytesAvailable() > _MOST:
                socket.abort()
            return
        try:
            names = json.loads(bytes(socket.readLine(_MOST).data()))
            paths = [Path(name) for name in names if isinstance(name, str)]
        except (ValueError, TypeError):
            socket.abort()
            return
        socket.write(b"taken\n")
        socket.flush()
        self.asked.emit(paths)
