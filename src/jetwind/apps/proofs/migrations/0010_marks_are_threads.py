"""Marks on renders become threads of comments."""

from typing import Any

from django.db import migrations


def threads_of_marks(apps: Any, editor: Any) -> None:
    """Begin a thread for each mark, with its words, its place, and whether it is settled."""
    thread_of = {}
    threads, comments = apps.get_model("comments", "Thread"), apps.get_model("comments", "Comment")
    for mark in apps.get_model("previews", "Mark").objects.order_by("pk"):
        words = str(mark.anchor.get("words", ""))[:50]
        thread = threads.objects.create(
            mailing_id=mark.mailing_id,
            revision_id=mark.revision_id,
            kind="element",
            station="appearance",
            anchor=mark.anchor,
            profile=mark.profile,
            named=f"Text “{words}”" if words else f"the element {mark.anchor.get('tag', '')}",
            settled_at=mark.settled_at,
            settled_by_id=mark.settled_by_id,
        )
        threads.objects.filter(pk=thread.pk).update(at=mark.at)
        comment = comments.objects.create(thread=thread, by_id=mark.by_id, said_by=mark.said_by, words=mark.comment)
        comments.objects.filter(pk=comment.pk).update(at=mark.at)
        thread_of[mark.pk] = thread.pk
    for reply in apps.get_model("proofs", "Reply").objects.exclude(mark=None):
        reply.thread_id = thread_of[reply.mark_id]
        reply.save(update_fields=["thread"])


class Migration(migrations.Migration):
    """Each mark with its words."""

    dependencies = [("proofs", "0009_reply_thread"), ("previews", "0010_answers"), ("comments", "0001_initial")]
    operations = [migrations.RunPython(threads_of_marks)]
