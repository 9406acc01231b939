"""Answers know no marks any more."""

from django.db import migrations


class Migration(migrations.Migration):
    """The column of answers goes."""

    dependencies = [("proofs", "0010_marks_are_threads")]
    operations = [migrations.RemoveField("reply", "mark")]
