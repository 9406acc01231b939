"""The browser's only way out, spoken to by hand: what it serves, what it refuses, and what breaks the rules of HTTP/1.1 (RFC 9112)."""

from __future__ import annotations

import asyncio
import contextlib
import ssl

import pytest

from jetwind.core.profiles import PARTS_HOST
from jetwind.engines.browser import certificate
from jetwind.engines.browser.proxy import PartsProxy

OWN = {"http://kiln.org/a.png?x=1": "abc", "https://kiln.org:8443/b.png": "abc", "https://kiln.org/c.png": "gone"}
PART = {"abc": ("image/png", b"picture"), "odd": ("text/html\r\nX-Own: 1", b"words")}


def answers(*sent: bytes) -> list[bytes]:
    """What comes back for octets sent one after the other on one connection, each read until nothing more comes."""

    async def spoken() -> list[bytes]:
        proxy = PartsProxy()
        port = await proxy.start()
        proxy.hold(PART, OWN)
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        got: list[bytes] = []
        try:
            for octets in sent:
                writer.write(octets)
                await writer.drain()
                data = b""
                while b"\r\n\r\n" not in data or not data.endswith((b"picture", b"words", b"\r\n\r\n")):
                    piece = await asyncio.wait_for(reader.read(65536), 20)
                    if not piece:
                        break
                    data += piece
                got.append(data)
        finally:
            writer.close()
            proxy.release()
            await proxy.stop()
        return got

    return asyncio.run(spoken())


def get(target: str, method: str = "GET") -> bytes:
    """A request as a browser sends it to its proxy."""
    return f"{method} {target} HTTP/1.1\r\nHost: {PARTS_HOST}\r\n\r\n".encode()


def test_parts_are_served_on_one_connection() -> None:
    """Twice in a row, with the rules that keep a drawing from running anything."""
    first, second = answers(get(f"http://{PARTS_HOST}/abc"), get(f"http://{PARTS_HOST}/abc"))
    for answer in (first, second):
        head, _, body = answer.partition(b"\r\n\r\n")
        assert head.startswith(b"HTTP/1.1 200") and body == b"picture"
        assert b"content-security-policy: sandbox" in head.lower() and b"x-content-type-options: nosniff" in head.lower()


def test_pictures_under_their_own_address() -> None:
    """As it was fetched from, with its query; the port that goes without saying may be said."""
    for target in ("http://kiln.org/a.png?x=1", "http://kiln.org:80/a.png?x=1"):
        (answer,) = answers(get(target))
        assert answer.endswith(b"picture")


def test_a_tunnel() -> None:
    """To a server of which something is served, and to no other; inside it the same rules hold."""

    async def through(server: str, *paths: str) -> list[bytes]:
        secure, _ = certificate.made()
        proxy = PartsProxy(secure)
        port = await proxy.start()
        proxy.hold(PART, OWN)
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        try:
            writer.write(get(server, "CONNECT"))
            got = [await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), 20)]
            if b" 200 " in got[0]:
                trusting = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
                trusting.check_hostname, trusting.verify_mode = False, ssl.CERT_NONE
                await writer.start_tls(trusting, server_hostname=server.partition(":")[0])
                for path in paths:
                    writer.write(get(path))
                    head = await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), 20)
                    got.append(head + (await reader.readexactly(7) if b" 200 " in head.splitlines()[0] else b""))
            return got
        finally:
            writer.close()
            await proxy.stop()

    opened, first, again, refused = asyncio.run(through("kiln.org:8443", "/b.png", "/b.png", "/a.png?x=1"))
    assert b" 200 " in opened and first.endswith(b"picture") and again == first and b" 403 " in refused.splitlines()[0]
    # What a browser asks over https by itself, because it knows the server (HSTS).
    _, upgraded = asyncio.run(through("kiln.org:443", "/a.png?x=1"))
    assert upgraded.endswith(b"picture")
    (other,) = asyncio.run(through("kiln.example:443", "/a.png"))
    assert b" 403 " in other.splitlines()[0]


def test_a_tunnel_that_is_abused() -> None:
    """What is no TLS ends the connection, and a tunnel leads to no further one; the proxy goes on serving."""

    async def tried() -> tuple[bytes, bytes, bytes]:
        secure, _ = certificate.made()
        proxy = PartsProxy(secure)
        port = await proxy.start()
        proxy.hold(PART, OWN)

        async def opened() -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(get("kiln.org:8443", "CONNECT"))
            await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), 20)
            return reader, writer

        try:
            plain = b""
            reader, writer = await opened()
            writer.write(b"GET /b.png HTTP/1.1\r\nHost: kiln.org\r\n\r\n")
            with contextlib.suppress(ConnectionError):
                # TLS says why it ends (RFC 8446 §6): at the most an alert comes, and no picture.
                plain = await asyncio.wait_for(reader.read(), 20)
            writer.close()
            reader, writer = await opened()
            trusting = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
            trusting.check_hostname, trusting.verify_mode = False, ssl.CERT_NONE
            await writer.start_tls(trusting, server_hostname="kiln.org")
            writer.write(get("kiln.org:8443", "CONNECT"))
            inner = await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), 20)
            writer.close()
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(get("http://kiln.org/a.png?x=1"))
            after = await asyncio.wait_for(reader.readuntil(b"picture"), 20)
            writer.close()
            return plain, inner, after
        finally:
            await proxy.stop()

    plain, inner, after = asyncio.run(tried())
    assert b"picture" not in plain
    assert b" 403 " in inner.splitlines()[0]
    assert after.endswith(b"picture")


def test_a_claimed_type_brings_no_header_of_its_own() -> None:
    """What a message says of a part is no header until it has the form of a type."""
    (answer,) = answers(get(f"http://{PARTS_HOST}/odd"))
    assert b"application/octet-stream" in answer and b"X-Own" not in answer


@pytest.mark.parametrize(
    "request_", [get("http://example.org/"), get(f"http://{PARTS_HOST}/unknown"), get("example.org:443", "CONNECT"), get("kiln.org:8443", "CONNECT"), get("/abc"), get(f"http://{PARTS_HOST}/abc", "POST"), get("http://kiln.org/a.png"), get("http://kiln.org/a.png?x=1", "POST"), get("https://kiln.org/c.png")]
)  # fmt: skip
def test_everything_else_is_refused(request_: bytes) -> None:
    """Other hosts, unknown parts, tunnels, other methods."""
    (answer,) = answers(request_)
    assert answer.startswith(b"HTTP/1.1 403")


@pytest.mark.parametrize(
    "octets", [b"\x16\x03\x01" * 20 + b"\r\n\r\n", b"GET\r\n\r\n", b"GET / HTTP/1.1\r\nX: " + b"a" * 100_000 + b"\r\n\r\n"]
)
def test_what_is_no_request_ends_the_connection(octets: bytes) -> None:
    """No answer, no hang."""
    assert answers(octets) == [b""]
