"""The answers that a revision's pages show are named as such."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    """The table and the name by which a revision knows its row."""

    dependencies = [("links", "0002_inward_hosts_have_ports")]

    operations = [
        migrations.RenameModel("Opened", "CurrentAnswers"),
        migrations.AlterField(
            "currentanswers",
            "revision",
            models.OneToOneField(on_delete=django.db.models.deletion.CASCADE, related_name="current_answers", to="intake.revision"),
        ),
    ]
