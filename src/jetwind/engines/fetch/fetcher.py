"""Asking for addresses: hop by hop, within limits of time and octets, several at once but few of one host."""

from __future__ import annotations

import asyncio
import ssl
import threading
import time
import zlib
from collections import defaultdict
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from queue import SimpleQueue
from typing import Literal

import aiohttp
from yarl import URL

from jetwind import __version__
from jetwind.core.errors import JetwindError
from jetwind.core.images import measure
from jetwind.core.images.bounded import pixel_size
from jetwind.core.images.facts import facts_of, is_drawing
from jetwind.core.links.addresses import Address, parsed
from jetwind.core.links.answers import MOST_HOPS, REDIRECTS, Answer, Hop, Page, Problem
from jetwind.core.links.page import page_of
from jetwind.engines.fetch.bodies import Body, charset_of, read
from jetwind.engines.fetch.caching import fresh_until
from jetwind.engines.fetch.connecting import Ways, connector, trust
from jetwind.engines.fetch.policy import Policy, Refusal, host_of
from jetwind.engines.fetch.resolving import NoWayOut, Resolver, SystemResolver

#: Says who asks, the same for everybody.
USER_AGENT = f"Jetwind/{__version__} (checks links of mail before it is sent)"
Kind = Literal["link", "picture"]
#: Octets that are read of a page and of a picture.
MOST_OCTETS: Mapping[Kind, int] = {"link": 1_000_000, "picture": 12_000_000}
_ACCEPTED: Mapping[Kind, str] = {
    "link": "text/html,application/xhtml+xml,*/*;q=0.8",
    "picture": "image/png,image/jpeg,image/gif,image/webp,image/*;q=0.8,*/*;q=0.5",
}
_HTML = ("text/html", "application/xhtml+xml")


@dataclass(frozen=True, slots=True)
class Patience:
    """The times that the fetcher waits, in seconds: for a connection, for the first octet, for the whole answer of one address, and before another try.

    After ``all`` seconds no further address is begun: fifty that hang must not keep a message for a quarter of an hour.
    """

    connect: float = 5.0
    first_byte: float = 10.0
    whole: float = 20.0
    all: float = 120.0
    tries: int = 3
    pause: float = 0.5
    longest_pause: float = 8.0


@dataclass(frozen=True, slots=True)
class Wanted:
    """An address to ask for, and the kind of thing expected there. Without ``reads`` the fetcher finds out that a page is there, and does not read it."""

    address: str
    kind: Kind = "link"
    reads: bool = True


@dataclass(frozen=True, slots=True)
class Fetched:
    """An answer with the octets that came."""

    wanted: Wanted
    answer: Answer
    body: bytes = b""


class _Ended(JetwindError):
    """Raised where asking for an address ends with a problem."""

    def __init__(self, problem: Problem, why: str) -> None:
        super().__init__(why)
        self.problem, self.why = problem, why


@dataclass(slots=True)
class _Asking:
    """The state of one address while the fetcher asks for it. ``spent`` are the seconds of its requests, without the wait for its turn; ``aside`` are those

    of requests that a reader's browser does not make: HEAD before GET, and tries before the last.
    """

    wanted: Wanted
    hops: list[Hop] = field(default_factory=list)
    spent: float = 0.0
    aside: float = 0.0

    def set_aside(self) -> None:
        """Count the last request as one that a reader's browser does not make."""
        self.aside += self.hops.pop().took_ms / 1000


class Fetcher:
    """Asks for addresses. Use it as an asynchronous context manager.

    ``authorities`` are PEM files by host or domain: a practice field's own certificates are trusted for its own hosts only.
    """

    def __init__(
        self,
        policy: Policy | None = None,
        resolver: Resolver | None = None,
        *,
        patience: Patience | None = None,
        authorities: Mapping[str, str] | None = None,
        per_host: int = 6,
        at_once: int = 48,
    ) -> None:
        self.policy = policy or Policy()
        self.ways = Ways(self.policy, resolver or SystemResolver())
        self.patience = patience or Patience()
        self._authorities = dict(authorities or {})
        self._trusted: dict[str, ssl.SSLContext] = {}
        self._at_once = asyncio.Semaphore(at_once)
        self._ends = time.monotonic() + self.patience.all
        self._hosts: dict[str, asyncio.Semaphore] = defaultdict(lambda: asyncio.Semaphore(per_host))
        self._session: aiohttp.ClientSession | None = None

    async def __aenter__(self) -> Fetcher:
        self._session = aiohttp.ClientSession(
            connector=connector(self.ways),
            cookie_jar=aiohttp.DummyCookieJar(),
            trust_env=False,
            auto_decompress=False,
            headers={"User-Agent": USER_AGENT, "Accept-Encoding": "gzip, deflate", "Accept-Language": "*"},
            timeout=aiohttp.ClientTimeout(total=None, sock_connect=self.patience.connect, sock_read=self.patience.first_byte),
            read_bufsize=64 * 1024,
        )
        return self

    async def __aexit__(self, *ended: object) -> None:
        if self._session is not None:
            await self._session.close()

    async def fetch(self, wanted: Wanted) -> Fetched:
        """Return the answer to one address. No address and no server makes this raise."""
        asked_at = datetime.now(UTC)
        asking = _Asking(wanted)
        problem, why, told, body = await self._asked(asking)
        headers, page, size, kind, measured = told or {}, None, (0, 0), "", None
        content_type = headers.get("Content-Type", "").partition(";")[0].strip().lower()[:100]
        is_page = wanted.kind == "link" and body.data.lstrip()[:1] in (b"<", b"")
        if body.data and not is_page and (pixels := pixel_size(body.data)) is not None:
            # By content: also where a picture is sent as a page, and of one with more pixels than may be opened.
            facts = measure(body.data)
            size, kind = pixels, facts.format if facts is not None else facts_of(body.data).format
            if wanted.kind == "picture" and not body.is_cut:
                measured = (await asyncio.to_thread(facts_of, body.data)).as_json()
        elif wanted.kind == "picture" and is_drawing(body.data) and content_type == "image/svg+xml" and not body.is_cut:
            told_of = facts_of(body.data)
            size, kind, measured = (told_of.width, told_of.height), told_of.format, told_of.as_json()
        elif body.data and content_type in _HTML:
            page = await asyncio.to_thread(page_of, body.data, charset_of(headers.get("Content-Type", "")))
        return Fetched(
            wanted,
            Answer(
                wanted.address,
                asked_at.isoformat(timespec="seconds"),
                hops=tuple(asking.hops),
                problem=problem,
                why=why,
                content_type=content_type,
                octets=len(body.data),
                is_cut=body.is_cut,
                took_ms=max(0, round((asking.spent - asking.aside) * 1000)),
                page=page if isinstance(page, Page) else None,
                landed=None,
                format=kind,
                size=size,
                facts=measured,
                fresh_until=fresh_until(headers, asked_at).isoformat(timespec="seconds"),
            ),
            body.data,
        )

    async def _asked(self, asking: _Asking) -> tuple[Problem, str, Mapping[str, str] | None, Body]:
        problem: Problem
        try:
            return "", "", *await self._followed(asking)
        except _Ended as ended:
            problem, why = ended.problem, ended.why
        except Refusal as refused:
            problem, why = "refused", str(refused)
        return problem, why, None, Body(b"")

    async def _followed(self, asking: _Asking) -> tuple[Mapping[str, str], Body]:
        """Follow redirects to the end, and return the headers and the body of the last answer."""
        at = parsed(asking.wanted.address)
        if at is None:
            raise _Ended("bad-redirect", "the address cannot be read")
        seen: set[str] = set()
        while True:
            self.policy.check(at)
            here = at.href.partition("#")[0]
            if here in seen:
                raise _Ended("loop", f"{here} leads back to itself")
            if len(seen) > MOST_HOPS:
                raise _Ended("too-many-hops", f"it is led on more than {MOST_HOPS} times")
            seen.add(here)
            headers, body = await self._answered(asking, at)
            last = asking.hops[-1]
            if not last.to:
                return headers, body
            following = parsed(last.to)
            if following is None:
                raise _Ended("bad-redirect", f"{here} leads to “{last.to[:200]}”, which is no address")
            at = following

    async def _answered(self, asking: _Asking, at: Address) -> tuple[Mapping[str, str], Body]:
        """Ask one hop: by HEAD, which no server counts as a click; by GET for a page that is to be read, for a picture, and where the server refuses HEAD.

        A server that is busy or breaks off is asked again.
        """
        method = "GET" if asking.wanted.kind == "picture" else "HEAD"
        tries = 1
        way = len(asking.hops)
        while True:
            try:
                # What is found to be a page keeps its place: it does not wait again behind every other link of its host.
                async with self._hosts[host_of(at)], self._at_once:
                    status, headers, body = await self._request(asking, at, method)
                    # Many servers refuse HEAD, with any of these.
                    is_refused = status >= 400 and status not in (410, 429, 503)
                    if method == "HEAD" and (is_refused or (status == 200 and asking.wanted.reads and _is_page(headers))):
                        asking.set_aside()
                        method = "GET"
                        status, headers, body = await self._request(asking, at, method)
            except _Ended as ended:
                if ended.problem != "broken-off" or tries >= self.patience.tries:
                    raise
                method, tries = "GET", tries + 1
                # A body that broke off had a head, which counts for the last try alone.
                while len(asking.hops) > way:
                    asking.set_aside()
                continue
            if status not in (429, 503):
                return headers, body
            if tries >= self.patience.tries:
                raise _Ended("busy", f"the server said {status} {tries} times")
            await asyncio.sleep(self._pause(headers, tries))
            asking.set_aside()
            tries += 1

    def _pause(self, headers: Mapping[str, str], tries: int) -> float:
        """The seconds before the next try: those of Retry-After, given in seconds or as a date (RFC 9110 §10.2.3), up to the longest pause."""
        said = headers.get("Retry-After", "").strip()
        wait = self.patience.pause * tries
        if said.isdecimal() and len(said) < 9:
            wait = float(said)
        elif said:
            with suppress(ValueError, TypeError, OverflowError):
                wait = (parsedate_to_datetime(said) - datetime.now(UTC)).total_seconds()
        return min(max(wait, 0.0), self.patience.longest_pause)

    async def _request(self, asking: _Asking, at: Address, method: str) -> tuple[int, Mapping[str, str], Body]:
        if time.monotonic() > self._ends:
            raise _Ended("not-opened", f"the links of the message take more than {self.patience.all:g} s")
        began = time.monotonic()
        try:
            async with asyncio.timeout(self.patience.whole - asking.spent):
                with _failures_told():
                    return await self._requested(asking, at, method, began)
        except TimeoutError:
            raise _Ended("timed-out", f"it was not there after {self.patience.whole:g} s") from None
        finally:
            asking.spent += time.monotonic() - began

    async def _requested(self, asking: _Asking, at: Address, method: str, began: float) -> tuple[int, Mapping[str, str], Body]:
        assert self._session is not None
        kind = asking.wanted.kind
        async with self._session.request(
            method,
            URL(at.href.partition("#")[0], encoded=True),
            allow_redirects=False,
            ssl=self._trust(host_of(at)) if at.scheme == "https" else True,
            headers={"Accept": _ACCEPTED[kind]},
        ) as answer:
            to = _leads_to(answer, at)
            took = time.monotonic() - began
            asking.hops.append(
                Hop(
                    at.href,
                    method,
                    status=answer.status,
                    started_ms=round((asking.spent - asking.aside) * 1000),
                    took_ms=round(took * 1000),
                    to=to,
                    ip=_ip_of(answer),
                )
            )
            body = Body(b"")
            if method == "GET" and not to and (kind == "picture" or _is_page(answer.headers)):
                coding = answer.headers.get("Content-Encoding", "")
                body = await read(answer.content.iter_chunked(32 * 1024), coding, MOST_OCTETS[kind])
            if body.is_cut:
                answer.close()
            return answer.status, answer.headers, body

    def _trust(self, host: str) -> ssl.SSLContext:
        own = next((path for domain, path in self._authorities.items() if host == domain or host.endswith(f".{domain}")), "")
        if own not in self._trusted:
            self._trusted[own] = trust((own,) if own else ())
        return self._trusted[own]


def _leads_to(answer: aiohttp.ClientResponse, at: Address) -> str:
    """Where a redirect leads, as a whole address, or as written where it is none; empty for an answer that is no redirect."""
    if answer.status not in REDIRECTS or "Location" not in answer.headers:
        return ""
    written = answer.headers["Location"].strip()
    following = parsed(written, at.href)
    return following.href if following is not None else written[:2000] or "an empty address"


def _ip_of(answer: aiohttp.ClientResponse) -> str:
    """The IP address that answered."""
    transport = answer.connection.transport if answer.connection is not None else None
    peer = transport.get_extra_info("peername") if transport is not None else None
    return str(peer[0]) if peer else ""


def _is_page(headers: Mapping[str, str]) -> bool:
    """Whether the answer is a page. Of a film or an archive the head shows that it is there, and the body is not read."""
    return headers.get("Content-Type", "").partition(";")[0].strip().lower() in _HTML


@contextmanager
def _failures_told() -> Iterator[None]:
    """Turn each exception of a connection into the problem with which asking ended."""
    try:
        yield
    except (_Ended, Refusal):
        raise
    except (aiohttp.ClientError, zlib.error, OSError, ValueError) as failure:
        cause = _cause(failure)
        if isinstance(cause, NoWayOut):
            raise _Ended("not-opened", str(cause)) from failure
        if cause is not None:
            raise cause from failure
        raise _ended(failure) from failure


def _ended(failure: Exception) -> _Ended:
    """The problem with which asking ended, by the exception of the connection; the narrower classes of aiohttp come first."""
    if isinstance(failure, aiohttp.ClientConnectorCertificateError):
        verdict = getattr(failure.certificate_error, "verify_message", "") or "it is refused"
        return _Ended("tls", f"its certificate is not valid: {verdict}")
    if isinstance(failure, (aiohttp.ClientConnectorSSLError, ssl.SSLError)):
        return _Ended("tls", "no secure connection came about")
    if isinstance(failure, aiohttp.ClientConnectorDNSError):
        return _Ended("no-name", "there is no such name")
    if isinstance(failure, (aiohttp.ServerTimeoutError, TimeoutError)):
        return _Ended("timed-out", "the server does not answer in time")
    if isinstance(failure, aiohttp.ClientConnectorError):
        return _Ended("no-connection", "nobody listens there")
    return _Ended("broken-off", "the server broke off, or did not speak HTTP")


def _cause(failure: BaseException | None) -> Refusal | NoWayOut | None:
    """The refusal, or the missing way out of this machine, among the causes of a failure."""
    for _ in range(8):
        if failure is None or isinstance(failure, (Refusal, NoWayOut)):
            return failure
        inner = getattr(failure, "os_error", None)
        failure = inner if isinstance(inner, BaseException) and inner is not failure else failure.__cause__ or failure.__context__
    return None


async def fetch_each(fetcher: Fetcher, wanted: Sequence[Wanted], done: Callable[[Fetched], object]) -> None:
    """Ask for all addresses at once, within the fetcher's limits, and call ``done`` with each answer when it comes."""

    async def one(thing: Wanted) -> None:
        done(await fetcher.fetch(thing))

    async with asyncio.TaskGroup() as tasks:
        for thing in wanted:
            tasks.create_task(one(thing))


def fetch_all(make: Callable[[], Fetcher], wanted: Sequence[Wanted]) -> Generator[Fetched, None, None]:
    """The same for a thread without an event loop: yield the answers as they come. A caller that takes no further answer ends the other requests."""
    came: SimpleQueue[Fetched | BaseException | None] = SimpleQueue()
    loop = asyncio.new_event_loop()

    async def run() -> None:
        async with make() as fetcher:
            await fetch_each(fetcher, wanted, came.put)

    task = loop.create_task(run())

    def work() -> None:
        try:
            loop.run_until_complete(task)
        except asyncio.CancelledError:
            pass
        except BaseException as failure:
            came.put(failure)
        finally:
            loop.run_until_complete(loop.shutdown_asyncgens())
            loop.run_until_complete(loop.shutdown_default_executor())
            loop.close()
            came.put(None)

    thread = threading.Thread(target=work, name="fetch", daemon=True)
    thread.start()
    try:
        while (fetched := came.get()) is not None:
            if isinstance(fetched, BaseException):
                raise fetched
            yield fetched
    finally:
        if thread.is_alive():
            with suppress(RuntimeError):
                loop.call_soon_threadsafe(task.cancel)
        thread.join(5)
