"""Many messages taken in at once."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

_ID = models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")


class Migration(migrations.Migration):
    """Two tables."""

    dependencies = [
        ("intake", "0009_labels"),
        ("workspace", "0011_clearing"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]
    operations = [
        migrations.CreateModel(
            name="Batch",
            fields=[
                ("id", _ID),
                ("name", models.CharField(max_length=200)),
                ("blob_sha256", models.CharField(max_length=64)),
                ("at", models.DateTimeField(auto_now_add=True)),
                (
                    "by",
                    models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="+", to=settings.AUTH_USER_MODEL),
                ),
                (
                    "workspace",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="batches", to="workspace.workspace"),
                ),
            ],
            options={"verbose_name_plural": "batches"},
        ),
        migrations.CreateModel(
            name="BatchFile",
            fields=[
                ("id", _ID.clone()),
                ("number", models.PositiveSmallIntegerField()),
                ("name", models.CharField(max_length=300)),
                ("refused", models.CharField(max_length=300, blank=True)),
                (
                    "batch",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="files", to="intake.batch"),
                ),
                (
                    "mailing",
                    models.ForeignKey(
                        null=True, blank=True, on_delete=django.db.models.deletion.SET_NULL, related_name="+", to="intake.mailing"
                    ),
                ),
            ],
            options={
                "ordering": ["number"],
                "constraints": [models.UniqueConstraint("batch", "number", name="one_row_of_a_file")],
            },
        ),
    ]
