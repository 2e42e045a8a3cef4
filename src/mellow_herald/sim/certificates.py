"""What devices connect to with a certificate on trial: a TLS port on loopback that asks for one and checks its chain.

A stand-in for the service that an engineer's devices would talk to. The handshake is a real one; before it, a device
looks at the dates by its own clock, which may be wrong, as the TLS library of a device does.
"""

import asyncio
import contextlib
import ssl
import tempfile
from collections.abc import AsyncIterator
from datetime import datetime
from pathlib import Path

from mellow_herald.core.certificate import read_chain

HANDSHAKE_S = 10.0


@contextlib.asynccontextmanager
async def serve_tls(certificate: Path, key: Path, trusted: Path) -> AsyncIterator[int]:
    """Serves while it lasts; gives the port. Whoever connects must show a chain that ends at a ``trusted`` one."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    context.load_verify_locations(trusted)
    context.verify_mode = ssl.CERT_REQUIRED

    async def greet(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError, ssl.SSLError):
            writer.write(b"hello\n")
            await writer.drain()
        writer.close()

    server = await asyncio.start_server(greet, "127.0.0.1", 0, ssl=context)
    try:
        yield server.sockets[0].getsockname()[1]
    finally:
        server.close()


async def why_not(port: int, chain: bytes, key: bytes, trusted: bytes, clock: datetime | None) -> str | None:
    """Connects with a chain and its key; why that does not come about, None if it does. ``clock`` is the device's."""
    read = read_chain(chain)
    if clock is not None and not read.begins <= clock <= read.ends:
        when = "is not good yet" if clock < read.begins else "is over"
        return (
            f"the certificate {when} by this device's clock, {clock:%Y-%m-%d %H:%M} "
            f"(good from {read.begins:%Y-%m-%d %H:%M} to {read.ends:%Y-%m-%d %H:%M})"
        )
    try:
        context = await asyncio.to_thread(_context, chain, key, trusted)
        async with asyncio.timeout(HANDSHAKE_S):
            reader, writer = await asyncio.open_connection("127.0.0.1", port, ssl=context, server_hostname="127.0.0.1")
            # In TLS 1.3 the other side says only now what it thinks of our certificate.
            greeting = await reader.readline()
            writer.close()
    except (OSError, ssl.SSLError, TimeoutError) as error:
        return f"the connection was refused ({error or type(error).__name__})"
    return None if greeting else "the connection was closed without a word"


def _context(chain: bytes, key: bytes, trusted: bytes) -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.load_verify_locations(cadata=trusted.decode())
    # The ssl module reads certificate and key from files only.
    with tempfile.NamedTemporaryFile() as file:
        file.write(key + b"\n" + chain)
        file.flush()
        context.load_cert_chain(file.name)
    return context
