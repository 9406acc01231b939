"""An answer leads to the thread of comments that it began."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    """The column of answers."""

    dependencies = [("proofs", "0008_answers"), ("comments", "0001_initial")]
    operations = [
        migrations.AddField(
            "reply",
            "thread",
            models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="+", to="comments.thread"),
        ),
    ]
