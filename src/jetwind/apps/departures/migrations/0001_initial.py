"""Views of the list that people keep."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    """The table."""

    initial = True
    dependencies = [("workspace", "0012_settings_became_rules"), migrations.swappable_dependency(settings.AUTH_USER_MODEL)]
    operations = [
        migrations.CreateModel(
            name="SavedView",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=40)),
                ("query", models.CharField(max_length=1000)),
                ("is_shared", models.BooleanField(default=False)),
                (
                    "by",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="+", to=settings.AUTH_USER_MODEL),
                ),
                (
                    "workspace",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="saved_views", to="workspace.workspace"
                    ),
                ),
            ],
            options={
                "ordering": ["name", "id"],
                "constraints": [
                    models.UniqueConstraint(
                        "workspace", "by", "name", condition=models.Q(is_shared=False), name="one_own_view_of_a_name"
                    ),
                    models.UniqueConstraint("workspace", "name", condition=models.Q(is_shared=True), name="one_shared_view_of_a_name"),
                ],
            },
        ),
    ]
