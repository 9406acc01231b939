"""The practice field's web server, with its mail servers beside it: pages by host and path, and every kind of answer under ``answers``."""

from __future__ import annotations

import asyncio
import gzip
import ssl
import threading
from collections import Counter
from collections.abc import Awaitable, Callable
from functools import lru_cache
from pathlib import Path

from aiohttp import web

from jetwind.engines.practice import pages
from jetwind.engines.practice.certificates import AUTHORITY, contexts
from jetwind.engines.practice.directory import DOMAIN, OTHER_DOMAIN, Directory
from jetwind.engines.practice.mail import PracticeMail
from jetwind.engines.practice.pictures import pixel, pot, vast

Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]
_REDIRECTS = {
    301: web.HTTPMovedPermanently,
    302: web.HTTPFound,
    303: web.HTTPSeeOther,
    307: web.HTTPTemporaryRedirect,
    308: web.HTTPPermanentRedirect,
}
_HUGE = 24_000_000


class PracticeWeb:
    """Serves the practice field. ``pace`` is the length of one of its seconds, in seconds: tests make slow answers quicker.

    ``mailroom`` is the host and the port to which the practice mail servers hand mail on; without one they only keep it.
    """

    def __init__(self, folder: Path, *, pace: float = 1.0, mailroom: tuple[str, int] | None = None) -> None:
        self._folder, self._pace, self._mailroom = folder, pace, mailroom
        self.mail: PracticeMail | None = None
        self._runner: web.AppRunner | None = None
        #: Requests by method and address, so that a test can see what was asked and what was not.
        self.asked: Counter[str] = Counter()
        self.tcp_connections = 0

    async def start(self, http_port: int = 0, https_port: int = 0) -> Directory:
        """Listen on loopback; with port 0, on free ones."""
        good, wrong = contexts(self._folder)

        def by_name(connection: ssl.SSLObject, name: str | None, context: ssl.SSLContext) -> None:
            if name in wrong:
                connection.context = wrong[name]

        good.sni_callback = by_name
        app = web.Application()
        app.router.add_route("*", "/{path:.*}", self._answer)
        self._runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.2, handler_cancellation=True)
        await self._runner.setup()
        plain = web.TCPSite(self._runner, "127.0.0.1", http_port)
        secure = web.TCPSite(self._runner, "127.0.0.1", https_port, ssl_context=good)
        await plain.start()
        await secure.start()
        ports = [int(address[1]) for address in self._runner.addresses]
        self.mail = PracticeMail(good, self._mailroom)
        return Directory(ports[0], ports[1], await self.mail.start(), self._folder / AUTHORITY)

    async def stop(self) -> None:
        """Stop listening."""
        if self._runner is not None:
            await self._runner.cleanup()
        if self.mail is not None:
            await self.mail.stop()

    async def _answer(self, request: web.Request) -> web.StreamResponse:
        try:
            return await self._answered(request)
        except ConnectionResetError:
            # The fetcher has gone, as it does when it has read enough.
            return web.Response()

    async def _answered(self, request: web.Request) -> web.StreamResponse:
        host = (request.host.partition(":")[0]).lower()
        self.asked[f"{request.method} {request.scheme}://{host}{request.path_qs}"] += 1
        if host.endswith(OTHER_DOMAIN):
            return _page(pages.GUILD.get(request.path))
        kind = host.removesuffix(DOMAIN).rstrip(".")
        if kind == "answers":
            return await self._kind(request)
        if kind == "pictures":
            return await self._picture(request)
        if kind == "go":
            # Counts a click and leads on, as links of a campaign do.
            raise web.HTTPFound(f"https://www.{DOMAIN}/{request.match_info['path']}")
        if kind == "guard":
            return self._guard(request)
        if kind == "news" and request.path == "/spring":
            raise web.HTTPFound(f"https://answers.{DOMAIN}/redirect/302/2")
        if (behaves := _BEHAVES.get(request.path)) is not None:
            return await getattr(self, f"_{behaves}")(request)  # type: ignore[no-any-return]
        if kind == "" and request.path != "/":
            raise web.HTTPMovedPermanently(f"https://www.{DOMAIN}{request.path_qs}")
        return _page(pages.PAGES.get(request.path))

    async def _kind(self, request: web.Request) -> web.StreamResponse:
        """The name of an address under ``answers``."""
        first, *rest = request.match_info["path"].split("/")
        if first == "redirect":
            return _redirect(rest)
        made = getattr(self, f"_{first.replace('-', '_')}", None) if first in _ANSWERS else None
        if made is not None:
            answer: web.StreamResponse = await made(request)
            return answer
        if first in _STATIC:
            return _page(_STATIC[first][1], _STATIC[first][0])
        return _page(None)

    def _guard(self, request: web.Request) -> web.StreamResponse:
        """The server that a gateway leads links over: it leads on within the practice field, or shows a page of its own."""
        to = request.query.get("to", "")
        host = to.partition("://")[2].partition("/")[0].partition("?")[0].lower()
        if request.path == "/open" and any(host == own or host.endswith(f".{own}") for own in (DOMAIN, OTHER_DOMAIN)):
            raise web.HTTPFound(to)
        return _page(pages.WARNING)

    async def _loop(self, request: web.Request) -> web.StreamResponse:
        raise web.HTTPFound("/loop/b" if request.path == "/loop" else "/loop")

    async def _loop_of_house(self, request: web.Request) -> web.StreamResponse:
        raise web.HTTPFound("/timetable")

    async def _downgrade(self, request: web.Request) -> web.StreamResponse:
        raise web.HTTPFound(f"http://answers.{DOMAIN}/fine")

    async def _to_home(self, request: web.Request) -> web.StreamResponse:
        raise web.HTTPFound(f"https://www.{DOMAIN}/")

    async def _inward(self, request: web.Request) -> web.StreamResponse:
        raise web.HTTPFound("http://169.254.169.254/latest/keys")

    async def _to_file(self, request: web.Request) -> web.StreamResponse:
        raise web.HTTPFound("file:///etc/passwd")

    async def _busy(self, request: web.Request) -> web.StreamResponse:
        return web.Response(status=429, headers={"Retry-After": "1" if self._pace >= 1 else "0"}, text="Too many")

    async def _busy_once(self, request: web.Request) -> web.StreamResponse:
        if self.asked[f"{request.method} {request.scheme}://{request.host.partition(':')[0]}{request.path_qs}"] % 2:
            return web.Response(status=429, headers={"Retry-After": "0"})
        return _page(pages.FINE)

    async def _away(self, request: web.Request) -> web.StreamResponse:
        return web.Response(status=503, headers={"Retry-After": "0"}, text="Back soon")

    async def _no_head(self, request: web.Request) -> web.StreamResponse:
        return web.Response(status=405) if request.method == "HEAD" else _page(pages.FINE)

    async def _slow(self, request: web.Request) -> web.StreamResponse:
        await asyncio.sleep(3.4 * self._pace)
        return _page(pages.FINE)

    async def _hanging(self, request: web.Request) -> web.StreamResponse:
        await asyncio.sleep(3600)
        return _page(pages.FINE)

    async def _dripping(self, request: web.Request) -> web.StreamResponse:
        answer = web.StreamResponse(headers={"Content-Type": "text/html"})
        await answer.prepare(request)
        while request.transport is not None and not request.transport.is_closing():
            await answer.write(b" ")
            await asyncio.sleep(0.5 * self._pace)
        return answer

    async def _broken_off(self, request: web.Request) -> web.StreamResponse:
        if request.transport is not None:
            request.transport.close()
        return web.Response()

    async def _broken_body(self, request: web.Request) -> web.StreamResponse:
        answer = web.StreamResponse(headers={"Content-Type": "text/html", "Content-Length": "1000"})
        await answer.prepare(request)
        if request.method == "GET" and request.transport is not None:
            await answer.write(b"<p>Half a page")
            request.transport.close()
        return answer

    async def _huge(self, request: web.Request) -> web.StreamResponse:
        return await _sent(request, b"<p>Clay by the ton. </p>" * 1000, _HUGE // 24_000, "text/html")

    async def _inflating(self, request: web.Request) -> web.StreamResponse:
        return web.Response(body=_bomb(), headers={"Content-Type": "text/html", "Content-Encoding": "gzip"})

    async def _wrong_type(self, request: web.Request) -> web.StreamResponse:
        return web.Response(body=pot("shelf"), content_type="text/html")

    async def _file(self, request: web.Request) -> web.StreamResponse:
        return web.Response(body=b"%PDF-1.4 a price list", content_type="application/pdf")

    async def _picture(self, request: web.Request) -> web.StreamResponse:
        name, _, ending = request.match_info["path"].rpartition(".")
        if name == "missing":
            return web.Response(status=404)
        if name == "slow":
            await asyncio.sleep(3.4 * self._pace)
        if name == "hanging":
            await asyncio.sleep(3600)
        if name == "wrong-type":
            return web.Response(text=pages.FINE, content_type="image/png")
        if name == "huge":
            return await _sent(request, pot("shelf"), _HUGE // len(pot("shelf")), "image/png")
        if name == "vast":
            return web.Response(body=vast(), content_type="image/png")
        if ending == "gif":
            return web.Response(body=pixel(), content_type="image/gif")
        return web.Response(body=pot(name), content_type="image/png", headers={"Cache-Control": "max-age=86400"})


#: Pages of the house that do not behave, by path.
_BEHAVES = {"/booking": "slow", "/gift": "downgrade", "/timetable": "loop_of_house"}
_STATIC = {
    "fine": (200, pages.FINE),
    "404": (404, pages.NOT_FOUND),
    "410": (410, pages.NOT_FOUND),
    "403": (403, pages.ERROR),
    "500": (500, pages.ERROR),
    "soft-not-found": (200, pages.SOFT_NOT_FOUND),
    "expired-offer": (200, pages.EXPIRED_OFFER),
    "desktop-only": (200, pages.DESKTOP_ONLY),
    "tiny-text": (200, pages.TINY),
}
_ANSWERS = frozenset(
    [
        "loop",
        "downgrade",
        "to-home",
        "inward",
        "to-file",
        "busy",
        "busy-once",
        "away",
        "no-head",
        "slow",
        "hanging",
        "dripping",
        "broken-off",
        "broken-body",
        "huge",
        "inflating",
        "wrong-type",
        "file",
    ]
)


@lru_cache(maxsize=1)
def _bomb() -> bytes:
    """A body of twenty thousand octets that unpacks to twenty million."""
    return gzip.compress(b"<p>" + b"\0" * 20_000_000)


def _page(html: str | None, status: int = 200) -> web.Response:
    return web.Response(text=html or pages.NOT_FOUND, status=status if html else 404, content_type="text/html")


def _redirect(rest: list[str]) -> web.StreamResponse:
    """Answer ``/redirect/STATUS/N`` with N hops of that status, and then with a page."""
    status, hops = (int(part) if part.isdecimal() and len(part) < 4 else 0 for part in (*rest, "", "")[:2])
    if status not in _REDIRECTS:
        return _page(None)
    if hops < 1:
        return _page(pages.FINE)
    raise _REDIRECTS[status](f"/redirect/{status}/{hops - 1}" if hops > 1 else "/fine")


async def _sent(request: web.Request, piece: bytes, times: int, content_type: str) -> web.StreamResponse:
    answer = web.StreamResponse(headers={"Content-Type": content_type})
    await answer.prepare(request)
    for _ in range(times):
        if request.transport is None or request.transport.is_closing():
            break
        await answer.write(piece)
        # The fetcher may have gone, which is heard between two pieces.
        await asyncio.sleep(0)
    return answer


class RunningPractice:
    """The practice field in a thread of its own, for tests and commands: a context manager that gives its directory."""

    def __init__(self, folder: Path, *, pace: float = 1.0, mailroom: tuple[str, int] | None = None) -> None:
        self.web = PracticeWeb(folder, pace=pace, mailroom=mailroom)
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="practice", daemon=True)

    def __enter__(self) -> Directory:
        self._thread.start()
        return asyncio.run_coroutine_threadsafe(self.web.start(), self._loop).result(30)

    def __exit__(self, *ended: object) -> None:
        asyncio.run_coroutine_threadsafe(self.web.stop(), self._loop).result(30)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(10)
