"""Packages of releases, and the keys that sign them."""

import django.db.models.deletion
from django.db import migrations, models

# A package is made once, in the background, and stays.
RECORD_STAYS = """
create or replace function jetwind_record_stays() returns trigger language plpgsql as $$
declare
  later text[] := '{taken_back_by_id,taken_back_at,taken_back_because,package_sha256,package_octets}';
begin
  if (to_jsonb(new) - later) <> (to_jsonb(old) - later) or old.taken_back_at is not null
    or (old.package_sha256 <> '' and old.package_sha256 <> new.package_sha256)
  then
    raise exception 'a clearance record never changes' using errcode = 'integrity_constraint_violation';
  end if;
  return new;
end $$;
"""


class Migration(migrations.Migration):
    """Columns, a table, and the trigger that knows them."""

    dependencies = [("approvals", "0003_rules_of_sign_off")]
    operations = [
        migrations.AddField("release", "package_sha256", models.CharField(max_length=64, blank=True, default=""), preserve_default=False),
        migrations.AddField("release", "package_octets", models.PositiveBigIntegerField(default=0)),
        migrations.RunSQL(RECORD_STAYS, migrations.RunSQL.noop),
        migrations.CreateModel(
            name="SigningKey",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("public_pem", models.TextField()),
                ("sealed_private", models.TextField()),
                ("at", models.DateTimeField(auto_now_add=True)),
                (
                    "workspace",
                    models.OneToOneField(on_delete=django.db.models.deletion.CASCADE, related_name="signing_key", to="workspace.workspace"),
                ),
            ],
        ),
    ]
