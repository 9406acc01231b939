"""A finding may stand at several places."""

from django.db import migrations, models


class Migration(migrations.Migration):
    """The places besides the first."""

    dependencies = [("review", "0002_released_is_locked")]
    operations = [migrations.AddField("findingrecord", "others", models.JSONField(default=list))]
