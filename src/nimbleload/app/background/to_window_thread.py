"""Where what other threads have found comes into the window's thread."""

from __future__ import annotations

import threading
from collections.abc import Callable

from PySide6.QtCore import QObject, Signal
from shiboken6 import isValid


class ToWindowThread(QObject):
    """Carries calls from other threads to the one it was made in, in their order.

    A signal that is emitted in another thread reaches its receivers later, and a receiver that is no `QObject` may be
    gone by then, which ends the process. So other threads only post here, and every public signal is emitted in the
    window's own thread.
    """

    _came = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._is_closed = False
        self._home, self._posting = threading.get_ident(), threading.Lock()
        self._came.connect(self._call)

    def post(self, call: Callable[..., object], *arguments: object) -> None:
        """Has it called in the thread of the window; from any thread. Nothing happens after `close`, or when this was
        deleted with the window it belongs to."""
        if threading.get_ident() == self._home:
            self._emit(call, arguments)
            return
        with self._posting:
            self._emit(call, arguments)

    def _emit(self, call: Callable[..., object], arguments: tuple[object, ...]) -> None:
        if not self._is_closed and isValid(self):
            self._came.emit((call, arguments))

    def last(self, call: Callable[..., object], *arguments: object) -> None:
        """The same for the last word of a thread: it is called once that thread is through, so that nothing runs then.

        For the very end of a thread's work, since the window waits for what it still has to do.
        """
        self.post(self._after, threading.current_thread(), call, arguments)

    @staticmethod
    def _after(thread: threading.Thread, call: Callable[..., object], arguments: tuple[object, ...]) -> None:
        if thread is not threading.current_thread():
            thread.join()
        call(*arguments)

    def close(self) -> None:
        """What has been posted and has not been called is dropped, and so is all that follows.

        No other thread is in the middle of posting then: the process would end if this were deleted meanwhile.
        """
        with self._posting:
            self._is_closed = True

    def _call(self, posted: tuple[Callable[..., object], tuple[object, ...]]) -> None:
        call, arguments = posted
        if not self._is_closed:
            call(*arguments)
