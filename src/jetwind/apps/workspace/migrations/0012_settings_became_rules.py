"""The settings that became rules of sign-off go."""

from django.db import migrations


class Migration(migrations.Migration):
    """Three columns go, once the view of readiness reads none of them."""

    dependencies = [("workspace", "0011_clearing"), ("review", "0010_rules_of_sign_off")]
    operations = [
        migrations.RemoveConstraint("workspace", "someone_signs"),
        migrations.RemoveField("workspace", "sign_offs_required"),
        migrations.RemoveField("workspace", "looks_hold"),
        migrations.RemoveField("workspace", "comments_hold"),
    ]
