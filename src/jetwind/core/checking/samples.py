"""Small messages that a check must fire on, or must leave alone; each becomes a test and a part of the check's page."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Literal, Unpack

from jetwind.core.checking.context import Context, Kind
from jetwind.core.checking.sample_values import AnswerValues, BlockValues, Given, MeasuredValues, PictureValues, SampleValues
from jetwind.core.images.facts import PictureFacts
from jetwind.core.links.answers import Answer, Answers, Hop, Landed, Page
from jetwind.core.message import Envelope, Message, Sample, read_bytes
from jetwind.core.profiles import profiles
from jetwind.core.renders import Render, Renders
from jetwind.core.renders.enlarged import Loss
from jetwind.core.renders.measured import Block, Measured
from jetwind.core.renders.showing import Shown


@dataclass(frozen=True)
class CheckSample:
    """Input text (an .eml, or HTML where it starts with ``<``) and what must come of it.

    ``at`` is the text that the finding's place must cover. ``files`` travel with HTML, by name.
    ``given`` are further circumstances, by their name in ``Context``; ``previous`` is the source of the message this one was copied from,
    ``renders`` what a browser would have measured of it.
    """

    source: str
    fires: bool
    at: str | None = None
    kind: str = "promotional"
    readers: tuple[Sample, ...] = ()
    known_fields: frozenset[str] | None = None
    files: Mapping[str, bytes] = field(default_factory=dict)
    envelope: Envelope | None = None
    encoding: str = "utf-8"
    given: Given = field(default_factory=lambda: Given())
    previous: str | None = None
    renders: Layout | None = None

    def context(self) -> Context:
        """The circumstances that the sample asks for."""
        previous = CheckSample(self.previous, fires=False).message() if self.previous is not None else None
        renders = self.renders.on(self.message()) if self.renders is not None else None
        return Context(
            Kind(self.kind), readers=self.readers, known_fields=self.known_fields, previous=previous, renders=renders, **self.given
        )

    def message(self) -> Message:
        """The sample as a Message."""
        # A lone surrogate stands for an octet that is no UTF-8 (PEP 383).
        data = self.source.encode(self.encoding, "surrogateescape")
        name = "sample.html" if self.source.lstrip().startswith("<") else "sample.eml"
        if not self.files:
            return read_bytes(data, name, envelope=self.envelope)
        import io
        import zipfile

        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            archive.writestr("sample.html", data)
            for file_name, content in self.files.items():
                archive.writestr(file_name, content)
        return read_bytes(packed.getvalue(), "sample.zip", envelope=self.envelope)


def clear(source: str, **more: Unpack[SampleValues]) -> CheckSample:
    """A message that must *not* trigger the check."""
    return CheckSample(source, fires=False, **more)


def finds(source: str, at: str | None = None, **more: Unpack[SampleValues]) -> CheckSample:
    """A message on which the check must fire, at that text."""
    return CheckSample(source, fires=True, at=at, **more)


@dataclass(frozen=True)
class SampleBlock:
    """A block on a sample's render, and the CSS selector that names its element in the sample's source: the first one it matches."""

    selector: str
    block: Block


def box(
    selector: str, kind: Literal["text", "link", "image"], at: tuple[float, float, float, float], **more: Unpack[BlockValues]
) -> SampleBlock:
    """An element as a browser would have measured it: ``at`` is left, top, width and height in CSS px, ``more`` further values of ``Block``."""
    x, y, width, height = at
    return SampleBlock(selector, Block(-1, kind, x=x, y=y, width=width, height=height, **more))


@dataclass(frozen=True)
class Layout:
    """A sample's render in one profile, as a browser would have measured it. Made by ``laid_out``."""

    profile_id: str
    boxes: tuple[SampleBlock, ...]
    shown: tuple[Shown, ...]
    measured: MeasuredValues
    reader: str = ""
    enlarged: tuple[tuple[Literal["cut", "covers"], str, str], ...] | None = None

    def on(self, message: Message) -> Renders:
        """The render of this message.

        Raises:
            ValueError: a selector is none, or matches nothing; the text names it.
        """
        document = message.document
        blocks: list[Block] = []
        for one in self.boxes:
            found = document.select(one.selector) if document is not None else []
            if not found:
                raise ValueError(f"the sample's source has no “{one.selector}”")
            blocks.append(replace(one.block, element=found[0].index))
        profile = profiles()[self.profile_id]
        width, height = profile.content_width, profile.viewport[1]
        values: MeasuredValues = {"width": width, "height": 1200, "content_width": width, "first_screen": height, **self.measured}
        return Renders(
            {self.profile_id: Render(profile, Measured(blocks=tuple(blocks), **values))},
            shown=self.shown,
            reader=self.reader,
            enlarged=self._lost(message),
        )

    def _lost(self, message: Message) -> tuple[Loss, ...] | None:
        if self.enlarged is None or message.document is None:
            return None
        first = {selector: message.document.select(selector)[0].index for _, *pair in self.enlarged for selector in pair}
        return tuple(Loss(kind, first[selector], first[other]) for kind, selector, other in self.enlarged)


def laid_out(
    profile_id: str,
    *boxes: SampleBlock,
    shown: tuple[Shown, ...] = (),
    reader: str = "",
    enlarged: tuple[tuple[Literal["cut", "covers"], str, str], ...] | None = None,
    **measured: Unpack[MeasuredValues],
) -> Layout:
    """A render in one profile, for samples: boxes in a window of the profile's size, unless ``measured`` has other values.

    ``reader`` is the sample reader whose copy it shows. ``enlarged`` is what is lost with text at 200 %: the kind of loss, selectors of the text and of the
    other element.
    """
    return Layout(profile_id, boxes, shown=shown, measured=measured, reader=reader, enlarged=enlarged)


def hops(*steps: tuple[str, int]) -> tuple[Hop, ...]:
    """The way of an address over these addresses and statuses; each but the last leads on to the next."""
    following = [*(address for address, _ in steps), ""][1:]
    return tuple(
        Hop(address, "GET", status=status, started_ms=0, took_ms=100, to=to)
        for (address, status), to in zip(steps, following, strict=False)
    )


def answered(
    address: str, *way: tuple[str, int] | int, page: str = "", heading: str = "", text: str = "", **more: Unpack[AnswerValues]
) -> Answer:
    """An address as it would have answered: a status, or its whole way; ``page`` is the title of the page at its end."""
    steps = [(address, step) if isinstance(step, int) else step for step in way]
    about = Page(page, heading or page, "en", text, 12) if page or heading or text else None
    values: AnswerValues = {"took_ms": 200, **more}
    return Answer(address, "2027-03-01T09:00:00+00:00", hops(*steps), page=about, **values)


def opened(*links: Answer, pictures: tuple[Answer, ...] = ()) -> Given:
    """For ``given`` of a sample: these links were opened, these pictures fetched."""
    return {"answers": Answers({answer.address: answer for answer in links}, {answer.address: answer for answer in pictures})}


def pictured(address: str, width: int = 600, height: int = 400, octets: int = 40_000, **more: Unpack[PictureValues]) -> Given:
    """For ``given`` of a sample: the picture at this address was fetched; ``more`` are further values of ``images.facts.PictureFacts``."""
    values: PictureValues = {"format": "JPEG", "colours": "rgb", **more}
    facts = PictureFacts(octets, width=width, height=height, **values)
    kind = f"image/{facts.format.lower()}"
    answer = answered(address, 200, format=facts.format, size=(width, height), octets=octets, content_type=kind, facts=facts.as_json())
    return opened(pictures=(answer,))


def landed(width: int, content_width: int, smallest_text: float, small_share: float = 0.5) -> Landed:
    """A landing page as it was laid out on a phone, in CSS px."""
    return Landed(width, content_width, smallest_text, small_share)
