"""Every address for every role and for another workspace: the table of docs/permissions.md, walked."""

import re
import tomllib
from pathlib import Path
from typing import Any

import pytest
from django.test import Client
from django.urls import reverse

from jetwind.apps.accounts.permissions import Role, roles_for
from jetwind.apps.approvals.models import Release, StandIn
from jetwind.apps.blobs import store
from jetwind.apps.comments.models import Thread
from jetwind.apps.departures.models import SavedView
from jetwind.apps.instructions.models import SendingBack
from jetwind.apps.intake.models import Batch
from jetwind.apps.links.models import LinkAnswer
from jetwind.apps.notices.models import Notice
from jetwind.apps.previews.models import Render
from jetwind.apps.proofs.models import (
    Arrival,
    ContentRender,
    OwnMailServer,
    Reply,
    ReplyLink,
    ReplyPhoto,
    Screenshot,
    TestAddress,
    TestCopy,
    TestSend,
)
from jetwind.apps.sets.models import MessageSet
from jetwind.apps.workspace.access import NeededPermissions
from jetwind.apps.workspace.addresses import Undeclared, _address, addresses, as_markdown
from jetwind.apps.workspace.models import FieldSyntax, Membership
from jetwind.apps.workspace.rulebooks import keep_rulebook
from jetwind.config.settings import ROOT
from tests.apps.helpers import taken_in
from tests.factories import mail, package, picture

ANGLES = {"name": "Angles", "open": "<<", "close": ">>"}
#: Addresses whose path names a thing of a workspace; every workspace has a rule for a kind of message.
_OF_A_THING = re.compile(r"<(?!slug:kind_of_message)")
#: Files that may not be there yet: asked for rightly, they answer 404.
_MAY_BE_MISSING = {
    "clearance",
    "package",
    "public-key",
    "lighter-pictures",
    "look-at-file",
    "look-at-picture",
    "mended-render",
    "render-sheet-pdf",
    "render-sheet-png",
    "render-map",
}


@pytest.fixture
def things(house: Any) -> dict[str, Any]:
    """One thing of each kind in the house, by the names that paths use."""
    revision = taken_in(house)
    type(revision.mailing).objects.update(planned_at="2027-03-09T08:00Z")
    send = TestSend.objects.create(mailing=revision.mailing, revision=revision, list_name="x", mark="x", by=house.reviewer)
    link = ReplyLink.objects.create(send=send, address="one@kiln.org", nonce="x", expires_at="2099-01-01T00:00Z")
    copy = TestCopy.objects.create(
        send=send, address="one@kiln.org", message_id="<x@y>", state="refused", copy_sha256=store.keep(mail(Subject="x"))
    )
    arrival = Arrival.objects.create(copy=copy, octets=1, blob_sha256=store.keep(mail()))
    shown = {"state": "done", "blob_sha256": store.keep(picture()), "content_type": "image/png", "width": 8, "height": 8}
    ContentRender.objects.create(content_sha256=copy.copy_sha256, profile="phone-upright", **shown)
    render = Render.objects.create(revision=revision, profile="phone-upright", mode="night", **shown)
    answer = LinkAnswer.objects.create(
        workspace=house.workspace,
        kind="link",
        address="https://kiln.org/",
        address_sha256="0" * 64,
        asked_at="2027-03-01T09:00Z",
        fresh_until="2027-03-01T10:00Z",
        answer={"address": "https://kiln.org/", "asked_at": "2027-03-01T09:00:00+00:00"},
        landing={"desktop": store.keep(picture()), "phone": store.keep(picture())},
    )
    thread = Thread.objects.create(mailing=revision.mailing, revision=revision, kind="station", station="links", named="x")
    thread.comments.create(words="x", said_by="Una")
    stand_in = StandIn.objects.create(
        workspace=house.workspace, away=house.reviewer, stands_in=house.approver, since="2027-03-01", until="2099-03-01"
    )
    sending = SendingBack.objects.create(mailing=revision.mailing, revision=revision, words="x", by=house.reviewer)
    return {
        "stand_in_id": stand_in.pk,
        "batch_id": Batch.objects.create(workspace=house.workspace, by=house.author, name="x.zip", blob_sha256=store.keep(package())).pk,
        "set_id": MessageSet.objects.create(workspace=house.workspace, name="Papers", created_by=house.author).pk,
        "view_id": SavedView.objects.create(
            workspace=house.workspace, by=house.reviewer, name="x", query="kind=promotional", is_shared=True
        ).pk,
        "kind_of_message": "transactional",
        "answer_id": answer.pk,
        "width": "phone",
        "side": "after",
        "which": "copy",
        "profile": "phone-upright",
        "file_id": 1,
        "picture": "0" * 64,
        "mailing_id": revision.mailing_id,
        "number": 1,
        "slug": "links",
        "form": "csv",
        "fingerprint": "0" * 16,
        "render_id": render.pk,
        "left_id": render.pk,
        "right_id": render.pk,
        "arrival_id": arrival.pk,
        "copy_id": copy.pk,
        "send_id": send.pk,
        "link_id": link.pk,
        "notice_id": Notice.objects.create(user=house.owner, mailing=revision.mailing, kind="bounced", path="/", at="2027-01-01T00:00Z").pk,
        "screenshot_id": Screenshot.objects.create(
            copy=copy, profile="phone-upright", blob_sha256=store.keep(picture()), width=8, height=8, by=house.reviewer
        ).pk,
        "thread_id": thread.pk,
        "sending_back_id": sending.pk,
        "instruction_id": sending.instructions.create(
            number=1, level="note", station="links", what="x", blob_sha256=store.keep(picture())
        ).pk,
        "photo_id": ReplyPhoto.objects.create(
            reply=Reply.objects.create(link=link, looks_right=True), blob_sha256=store.keep(picture()), width=8, height=8
        ).pk,
        "server_id": OwnMailServer.objects.create(workspace=house.workspace, name="Quay", host="mail.kiln.org").pk,
        "list_id": house.test_list.pk,
        "address_id": TestAddress.objects.first().pk,  # type: ignore[union-attr]
        "reader_id": house.workspace.readers.first().pk,
        "syntax_id": FieldSyntax.objects.create(workspace=house.workspace, name="Angles", description=ANGLES).pk,
        "invitation_id": house.workspace.invitations.create(
            email="x@kiln.org", roles=["author"], token_sha256="0" * 64, by=house.owner, expires_at="2099-01-01T00:00Z"
        ).pk,
        "membership_id": Membership.objects.get(user=house.author).pk,
        "kind": "png",
        "book_id": keep_rulebook(house.reviewer, house.workspace, {"name": "Quay", "demands": ["footer.address-missing"]}).id,
        "token": "x",
        "place": "header",
        "link": "x",
        "uidb64": "x",
    }


def path_of(name: str, pattern: str, things: dict[str, Any]) -> str:
    """A real path for an address."""
    wanted = re.findall(r"<(?:\w+:)?(\w+)>", pattern)
    return reverse(name, kwargs={each: things[each] for each in wanted})


def test_the_table_is_current() -> None:
    """docs/permissions.md says what the views say; ./jetwind manage addresses writes it."""
    assert (ROOT / "docs" / "permissions.md").read_text(encoding="utf-8") == as_markdown()


def test_a_view_without_a_declaration() -> None:
    """It cannot be forgotten."""
    with pytest.raises(Undeclared):
        _address("x", "/x/", lambda request: None)


@pytest.mark.parametrize("role", [role.value for role in Role])
def test_every_address(house: Any, things: dict[str, Any], role: str) -> None:
    """Who lacks the permission is refused; who has it is answered, if only with what is wrong with the request."""
    for address in addresses():
        if address.asked is None or address.asked == NeededPermissions(None, None):
            continue
        path = path_of(address.name, address.path, things)
        for method, permission in (("get", address.asked.look), ("post", address.asked.send)):
            if permission is None:
                continue
            client = house.client(getattr(house, role))
            answer = getattr(client, method)(path)
            refused = answer.status_code == 403
            assert refused is (role not in {holder.value for holder in roles_for(permission)}), (method, path, answer.status_code)
            assert answer.status_code < 500, (method, path)
            if not refused and method == "get":
                assert answer.status_code in (200, 302) or address.name in _MAY_BE_MISSING, (path, answer.status_code)


def test_another_workspace_finds_nothing(house: Any, things: dict[str, Any]) -> None:
    """With every role of their own, people of another workspace are answered 404, as if the thing did not exist; and nothing changes."""
    client = house.client(house.outsider)
    before = (Membership.objects.count(), TestAddress.objects.count(), Release.objects.count(), TestCopy.objects.get().state)
    walked = 0
    for address in addresses():
        if address.asked is None or not _OF_A_THING.search(address.path):
            continue
        path = path_of(address.name, address.path, things)
        for method, permission in (("get", address.asked.look), ("post", address.asked.send)):
            if permission is not None:
                walked += 1
                assert getattr(client, method)(path).status_code == 404, (method, path)
    assert walked > 30
    assert before == (Membership.objects.count(), TestAddress.objects.count(), Release.objects.count(), TestCopy.objects.get().state)


def test_signed_out(house: Any, things: dict[str, Any]) -> None:
    """Everything but what is open to everybody leads to the sign-in."""
    for address in addresses():
        answer = Client().get(path_of(address.name, address.path, things))
        if address.asked is not None:
            assert answer.status_code == 302, address.path
            assert answer["Location"].startswith("/sign-in/")
        else:
            assert answer.status_code in (200, 302, 404), address.path


def test_no_view_reaches_into_engines() -> None:
    """Every module with a view is named by the contract that lint-imports holds it to."""
    contracts = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["importlinter"]["contracts"]
    [named] = [one["source_modules"] for one in contracts if one["name"] == "views do not reach into engines"]
    patterns = [re.compile(name.replace(".", r"\.").replace("*", "[a-z_]+")) for name in named]
    source = ROOT / "src"
    modules = [
        ".".join(path.relative_to(source).with_suffix("").parts)
        for path in Path(source / "jetwind" / "apps").rglob("*.py")
        if re.search(r"^@asks\(", path.read_text(), re.MULTILINE)
    ]
    assert len(modules) > 15
    assert not [name for name in modules if not any(pattern.fullmatch(name) for pattern in patterns)]
