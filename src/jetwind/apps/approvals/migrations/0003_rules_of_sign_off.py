"""Roles, conditions and grounds of a signature, refusals, stand-ins, and releases that are taken back."""

import django.contrib.postgres.fields
import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

# A release is taken back before anything else of the message may change, and nothing else changes with it.
RELEASED_STAYS = """
create or replace function jetwind_released_mailing_stays() returns trigger language plpgsql as $$
begin
  if old.stage = 'released' and not (
    to_jsonb(new) = to_jsonb(old) || '{"stage": "cleared"}'::jsonb
    and not exists (select from approvals_release where mailing_id = old.id and taken_back_at is null)
  ) then
    raise exception 'the message is released and locked' using errcode = 'integrity_constraint_violation';
  end if;
  return new;
end $$;
"""
RELEASED_STAYED = """
create or replace function jetwind_released_mailing_stays() returns trigger language plpgsql as $$
begin
  if old.stage = 'released' then
    raise exception 'the message is released and locked' using errcode = 'integrity_constraint_violation';
  end if;
  return new;
end $$;
"""
# What was said about a released message stays as it was said.
SAID_STAYS = """
create function jetwind_said_of_released_stays() returns trigger language plpgsql as $$
begin
  if (select stage from intake_mailing where id = old.mailing_id) = 'released' then
    raise exception 'the message is released and locked' using errcode = 'integrity_constraint_violation';
  end if;
  return new;
end $$;
create trigger said_of_released_stays before update on approvals_signoff
  for each row execute function jetwind_said_of_released_stays();
create trigger said_of_released_stays before update on review_excuse
  for each row execute function jetwind_said_of_released_stays();

create function jetwind_looks_of_released_stay() returns trigger language plpgsql as $$
begin
  if exists (
    select from intake_revision revision join intake_mailing mailing on mailing.id = revision.mailing_id
    where revision.id = coalesce(new.revision_id, old.revision_id) and mailing.stage = 'released'
  ) then
    raise exception 'the message is released and locked' using errcode = 'integrity_constraint_violation';
  end if;
  return coalesce(new, old);
end $$;
create trigger looks_of_released_stay before insert or update or delete on review_stationlook
  for each row execute function jetwind_looks_of_released_stay();

create function jetwind_record_stays() returns trigger language plpgsql as $$
begin
  if (to_jsonb(new) - '{taken_back_by_id,taken_back_at,taken_back_because}'::text[])
    <> (to_jsonb(old) - '{taken_back_by_id,taken_back_at,taken_back_because}'::text[])
    or old.taken_back_at is not null
  then
    raise exception 'a clearance record never changes' using errcode = 'integrity_constraint_violation';
  end if;
  return new;
end $$;
create trigger record_stays before update on approvals_release for each row execute function jetwind_record_stays();
"""
SAID_STAYED = """
drop trigger record_stays on approvals_release; drop function jetwind_record_stays();
drop trigger looks_of_released_stay on review_stationlook; drop function jetwind_looks_of_released_stay();
drop trigger said_of_released_stays on review_excuse; drop trigger said_of_released_stays on approvals_signoff;
drop function jetwind_said_of_released_stays();
"""
# An earlier signature keeps its one role. This statement runs before the triggers are made, which refuse changes to released messages.
ROLES = "update approvals_signoff set roles = array[role];"


def _person():
    return models.ForeignKey(
        null=True, blank=True, on_delete=django.db.models.deletion.PROTECT, related_name="+", to=settings.AUTH_USER_MODEL
    )


class Migration(migrations.Migration):
    """Columns, a table, and triggers."""

    dependencies = [
        ("approvals", "0002_state_rules"),
        ("review", "0010_rules_of_sign_off"),
        ("workspace", "0012_settings_became_rules"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]
    operations = [
        migrations.AddField(
            "signoff",
            "roles",
            django.contrib.postgres.fields.ArrayField(base_field=models.CharField(max_length=20), default=list, size=None),
        ),
        migrations.AddField("signoff", "in_place_of", _person()),
        migrations.AddField(
            "signoff",
            "said",
            models.CharField(max_length=10, choices=[("signed", "signed"), ("refused", "refused")], default="signed"),
        ),
        migrations.AddField("signoff", "condition", models.JSONField(default=dict, blank=True)),
        migrations.AddField("signoff", "condition_met_at", models.DateTimeField(null=True, blank=True)),
        migrations.AddField("signoff", "rests", models.JSONField(default=dict, blank=True)),
        migrations.AddField("signoff", "rests_sha256", models.CharField(max_length=64, blank=True)),
        migrations.AddField("signoff", "changed", models.JSONField(default=list, blank=True)),
        migrations.RunSQL(ROLES, migrations.RunSQL.noop),
        migrations.CreateModel(
            name="StandIn",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("since", models.DateField()),
                ("until", models.DateField()),
                ("ended_at", models.DateTimeField(null=True, blank=True)),
                (
                    "away",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="+", to=settings.AUTH_USER_MODEL),
                ),
                (
                    "stands_in",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="+", to=settings.AUTH_USER_MODEL),
                ),
                (
                    "workspace",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="stand_ins", to="workspace.workspace"),
                ),
            ],
            options={
                "ordering": ["since", "id"],
                "constraints": [
                    models.CheckConstraint(condition=models.Q(until__gte=models.F("since")), name="away_ends_after_it_begins"),
                    models.CheckConstraint(condition=~models.Q(away=models.F("stands_in")), name="nobody_stands_in_for_themselves"),
                ],
            },
        ),
        migrations.AlterField(
            "release",
            "mailing",
            models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="releases", to="intake.mailing"),
        ),
        migrations.AddField("release", "taken_back_by", _person()),
        migrations.AddField("release", "taken_back_at", models.DateTimeField(null=True, blank=True)),
        migrations.AddField("release", "taken_back_because", models.CharField(max_length=300, blank=True)),
        migrations.AlterModelOptions("release", options={"ordering": ["id"]}),
        migrations.AddConstraint(
            "release", models.UniqueConstraint("mailing", condition=models.Q(taken_back_at=None), name="one_release_in_force")
        ),
        migrations.RunSQL(RELEASED_STAYS, RELEASED_STAYED),
        migrations.RunSQL(SAID_STAYS, SAID_STAYED),
    ]
