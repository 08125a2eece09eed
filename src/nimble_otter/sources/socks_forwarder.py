"""Forwards a port of this machine to a server that is reached only through a SOCKS proxy (RFC 1928). A program of its
own, which the tunnel starts and ends: `python -m nimble_otter.sources.socks_forwarder PORT PROXY PROXY_PORT HOST PORT`.
It says `ready` once the proxy has reached the server, else what the proxy said, and ends.
"""

from __future__ import annotations

import asyncio
import socket
import sys
from contextlib import suppress

_PATIENCE_S, _CHUNK = 15, 1 << 16


def _through(proxy: tuple[str, int], target: tuple[str, int]) -> socket.socket:
    """Raises: OSError in the proxy's words, or of the way to it."""
    import socks

    line: socket.socket = socks.create_connection(
        target, timeout=_PATIENCE_S, proxy_type=socks.SOCKS5, proxy_addr=proxy[0], proxy_port=proxy[1], proxy_rdns=True
    )
    line.setblocking(False)
    return line


async def _forward(listener: socket.socket, proxy: tuple[str, int], target: tuple[str, int]) -> None:
    """Until the process is ended; a side that does not read holds only its own line up."""

    async def carry(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(OSError):
            while data := await reader.read(_CHUNK):
                writer.write(data)
                await writer.drain()
            writer.write_eof()

    async def accept(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        lines = [writer]
        try:
            far, back = await asyncio.open_connection(sock=await asyncio.to_thread(_through, proxy, target))
            lines.append(back)
            await asyncio.gather(carry(reader, back), carry(far, writer))
        except OSError as problem:
            print(f"open failed: {problem}", file=sys.stderr, flush=True)
        finally:
            for line in lines:
                line.close()

    async with await asyncio.start_server(accept, sock=listener) as server:
        await server.serve_forever()


def main(arguments: list[str]) -> int:
    """Returns 1, where the server can't be reached."""
    here, proxy, proxy_port, host, port = arguments
    by, target = (proxy, int(proxy_port)), (host, int(port))
    try:
        listener = socket.create_server(("127.0.0.1", int(here)))
        _through(by, target).close()
    except ImportError:
        print("no package", file=sys.stderr)
        return 1
    except OSError as problem:
        print(problem, file=sys.stderr)
        return 1
    print("ready", flush=True)
    asyncio.run(_forward(listener, by, target))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
