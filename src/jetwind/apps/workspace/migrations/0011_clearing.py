"""Rules of sign-off as data, made of the three settings that stood for them."""

from django.db import migrations, models


def _from_settings(apps, schema_editor):
    """The rule of every kind that asks for what the settings of a workspace asked for."""
    workspaces = apps.get_model("workspace", "Workspace").objects
    for one in workspaces.all():
        one.clearing = {
            "every": {
                "signers": ["either"] * (one.sign_offs_required - 1) + ["approver"],
                "stations": "left-out" if one.looks_hold else "free",
                "comments": not one.comments_hold,
            }
        }
        one.save(update_fields=["clearing"])


class Migration(migrations.Migration):
    """A column, and what stands in it."""

    dependencies = [("workspace", "0010_looks_hold")]
    operations = [
        migrations.AddField("workspace", "clearing", models.JSONField(default=dict, blank=True)),
        migrations.RunPython(_from_settings, migrations.RunPython.noop),
    ]
