"""Background work of test sends."""

from __future__ import annotations

from procrastinate.contrib.django import app

from jetwind.apps.instructions.services import MAIL_INSTRUCTIONS
from jetwind.apps.jobs import services as jobs
from jetwind.apps.notices.services import MAIL_NOTICES
from jetwind.apps.previews.services import the_browser
from jetwind.apps.proofs import letters, renders, screenshots
from jetwind.apps.proofs.comparing import compare_arrival
from jetwind.apps.proofs.handing_over import hand_over_copies
from jetwind.apps.proofs.mail_servers import carry_out_connection_test
from jetwind.apps.proofs.models import Arrival, OwnMailServer, Reply, Screenshot, TestSend
from jetwind.apps.proofs.replies import place
from jetwind.apps.proofs.services import go_on
from jetwind.apps.workspace.models import Workspace


@app.task(name="proofs.send_copies", priority=20)
def send_copies(send_id: int, work_id: int) -> None:
    """Hand over the copies of a test send. A copy that somebody asked for in the moment of the end has the work begun once more."""
    elsewhere: set[int] | None = None
    with jobs.carried_out(work_id):
        send = TestSend.objects.select_related("revision__mailing__workspace", "mailing__workspace", "server").get(pk=send_id)
        elsewhere = hand_over_copies(send, work_id)
    if elsewhere is not None:
        go_on(send, elsewhere)


@app.task(name="proofs.try_server", priority=20)
def try_server(server_id: int, recipient: str, work_id: int) -> None:
    """Try the connection to a mail server."""
    with jobs.carried_out(work_id):
        row = OwnMailServer.objects.select_related("workspace").get(pk=server_id)
        jobs.report(work_id, done=0, total=1, doing=f"tries {row.host}")
        carry_out_connection_test(row, recipient)


@app.task(name=MAIL_NOTICES, priority=15)
def mail_notices(user_id: int, workspace_id: int) -> None:
    """Write to a person about what waits in a workspace."""
    letters.write_notices(user_id, workspace_id)


@app.task(name=MAIL_INSTRUCTIONS, priority=15)
def mail_instructions(sending_back_id: int) -> None:
    """Write to an author what is to be changed."""
    letters.write_instructions(sending_back_id)


@app.task(name=letters.SEND, priority=15)
def send_letter(letter_id: int, work_id: int) -> None:
    """Hand a letter over."""
    with jobs.carried_out(work_id):
        letters.send(letter_id, work_id)


@app.task(name="proofs.place_reply", priority=15)
def place_reply(reply_id: int) -> None:
    """Begin the thread of comments that an answer asks for."""
    reply = Reply.objects.select_related("link__send__revision", "render").filter(pk=reply_id).first()
    if reply is not None:
        place(reply)


@app.task(name=renders.TASK, priority=10)
def render_arrival(arrival_id: int, workspace_id: int, work_id: int) -> None:
    """Render an arrival and its copy in the client profiles, and ask the checks."""
    with jobs.carried_out(work_id):
        arrival = Arrival.objects.select_related("copy").get(pk=arrival_id)
        renders.carry_out(arrival, Workspace.objects.get(pk=workspace_id), work_id, the_browser())


@app.task(name=screenshots.TASK, priority=10)
def hold_screenshot(screenshot_id: int) -> None:
    """Hold a picture of a real screen against the render of its copy."""
    found = Screenshot.objects.select_related("copy").filter(pk=screenshot_id).first()
    if found is not None:
        screenshots.hold(found, the_browser())


@app.task(name="proofs.compare_arrival", priority=15)
def compare_one(arrival_id: int) -> None:
    """Hold an arrival against its copy."""
    arrival = Arrival.objects.select_related("copy__send").filter(pk=arrival_id).first()
    if arrival is not None:
        compare_arrival(arrival)
