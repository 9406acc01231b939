"""Labels of messages."""

import django.contrib.postgres.fields
from django.db import migrations, models


class Migration(migrations.Migration):
    """A column."""

    dependencies = [("intake", "0008_revision_tags")]
    operations = [
        migrations.AddField(
            "mailing",
            "labels",
            django.contrib.postgres.fields.ArrayField(base_field=models.CharField(max_length=30), blank=True, default=list, size=None),
        ),
    ]
