"""A line between client and server that can be slow, silent or cut: a loopback proxy in threads."""

import contextlib
import queue
import socket
import threading
import time


class Line:
    """Forwards 127.0.0.1:port to a server. `delay_s` is added each way, `bytes_s` limits what comes back; `hold` stops
    forwarding (nothing is closed), `cut` closes every connection, `refuse` closes each new one at once. `turns` counts
    how often the client spoke after the server, `cut_after` is the count at which everything is cut, once."""

    def __init__(self, port, delay_s=0.0, bytes_s=None):
        self._to, self.delay_s, self.bytes_s = port, delay_s, bytes_s
        self._open = threading.Event()
        self._open.set()
        self._pairs, self.is_refusing, self.turns, self._is_up = [], False, 0, False
        self.cut_after, self._lock, self._is_over = None, threading.Lock(), False
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self):
        with contextlib.suppress(OSError):
            while True:
                client, _ = self._listener.accept()
                if self.is_refusing:
                    client.close()
                    continue
                server = socket.create_connection(("127.0.0.1", self._to))
                with self._lock:
                    self._pairs += [client, server]
                    is_over = self._is_over
                if is_over:  # it came while the line was closed
                    self._end()
                    return
                threading.Thread(target=self._carry, args=(client, server, None), daemon=True).start()
                threading.Thread(target=self._carry, args=(server, client, self.bytes_s), daemon=True).start()

    def _carry(self, source, target, bytes_s):
        later = queue.SimpleQueue()
        threading.Thread(target=self._deliver, args=(later, source, target, bytes_s), daemon=True).start()
        with contextlib.suppress(OSError):
            while data := source.recv(16384):
                is_up = target.getpeername()[1] == self._to
                self.turns += is_up and not self._is_up
                self._is_up = is_up
                if self.cut_after is not None and self.turns >= self.cut_after:
                    self.cut_after = None
                    self.cut()
                later.put((time.monotonic() + self.delay_s, data))
        later.put(None)

    def _deliver(self, later, source, target, bytes_s):
        """What is under way at the same time is late together, as on a real line."""
        with contextlib.suppress(OSError):
            while (item := later.get()) is not None:
                due, data = item
                time.sleep(max(0.0, due - time.monotonic()))
                if bytes_s:
                    time.sleep(len(data) / bytes_s)
                self._open.wait()
                target.sendall(data)
        for end in (source, target):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)

    def hold(self):
        self._open.clear()

    def go_on(self):
        self._open.set()

    def cut(self):
        for end in self._pairs:
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)

    def close(self):
        self._listener.close()
        self._open.set()
        with self._lock:
            self._is_over = True
        self._end()

    def _end(self):
        self.cut()
        for end in self._pairs:  # else they warn when they are collected, in whatever test runs then
            end.close()
