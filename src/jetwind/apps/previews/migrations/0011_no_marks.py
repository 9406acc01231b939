"""Marks are threads of comments now."""

from django.db import migrations


class Migration(migrations.Migration):
    """The table of marks goes."""

    dependencies = [("previews", "0010_answers"), ("proofs", "0011_no_marks")]
    operations = [migrations.DeleteModel("Mark")]
