"""Stations left out, excuses that a second person confirms, and the view of readiness with what the rules of sign-off ask for."""

from importlib import import_module

import django.contrib.postgres.fields
import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

_BEFORE = import_module("jetwind.apps.review.migrations.0009_comments_hold")
_DROP = "drop view review_readinessfacts;"

# Which comments count, and which stations, is said by the rule of sign-off; the view counts all.
FORWARD = """
create view review_readinessfacts as
select
  revision.id as revision_id,
  run.id is not null as is_checked,
  exists (
    select from jobs_work work where work.subject = 'revision:' || revision.id and work.state in ('waiting', 'running')
  ) as is_busy,
  coalesce(run.unlooked, 0) as unlooked,
  coalesce(found.stops, 0) as stops,
  coalesce(found.fixes, 0) as fixes,
  coalesce(found.notes, 0) as notes,
  looked.clear as clear,
  said.threads as comments,
  looked.looked_at as looked_at,
  looked.left_out as left_out,
  accepted.unconfirmed as unconfirmed,
  accepted.of_reviewers as unconfirmed_of_reviewers,
  (
    select max(later.number) from intake_revision later where later.mailing_id = revision.mailing_id and later.number > revision.number
  ) as newer,
  exists (
    select from jobs_work work
    where work.subject = 'revision:' || revision.id and work.kind = 'checks' and work.state in ('waiting', 'running')
  ) as is_checking
from intake_revision revision
left join lateral (
  select id, (summary->>'unlooked')::int as unlooked
  from review_checkrun where revision_id = revision.id order by created_at desc limit 1
) run on true
left join lateral (
  select
    count(*) filter (where level = 'stop') as stops,
    count(*) filter (where level = 'fix') as fixes,
    count(*) filter (where level = 'note') as notes,
    array_agg(station) filter (where level <> 'note') as weighty
  from review_findingrecord finding
  where finding.run_id = run.id
  and not exists (
    select from review_excuse excuse
    where excuse.mailing_id = revision.mailing_id and excuse.lifted_at is null
    and (excuse.only_revision_id is null or excuse.only_revision_id = revision.id)
    and excuse.members = '{}'
    and (excuse.fingerprint = finding.fingerprint or (finding.cause <> '' and excuse.fingerprint = finding.cause))
  )
  and (
    finding.members = '{}'
    or exists (
      select from jsonb_each_text(finding.members) as fault (fingerprint, places)
      where not exists (
        select from review_excuse excuse
        where excuse.mailing_id = revision.mailing_id and excuse.lifted_at is null
        and (excuse.only_revision_id is null or excuse.only_revision_id = revision.id)
        and (
          (excuse.members = '{}' and excuse.fingerprint = fault.fingerprint)
          or (excuse.members->>fault.fingerprint)::int >= fault.places::int
        )
      )
    )
  )
) found on true
left join lateral (
  select
    count(*) filter (where left_out = '' and station <> all (coalesce(found.weighty, '{}'))) as clear,
    coalesce(array_agg(station) filter (where left_out = ''), '{}') as looked_at,
    coalesce(array_agg(station) filter (where left_out <> ''), '{}') as left_out
  from review_stationlook where revision_id = revision.id and station <> 'sign-off'
) looked on true
left join lateral (
  select count(*) as threads
  from comments_thread thread
  join intake_revision begun on begun.id = thread.revision_id
  where thread.mailing_id = revision.mailing_id and thread.settled_at is null and begun.number <= revision.number
) said on true
left join lateral (
  select count(*) as unconfirmed, count(*) filter (where not excuse.by_approver) as of_reviewers
  from review_excuse excuse
  where excuse.mailing_id = revision.mailing_id and excuse.lifted_at is null
  and (excuse.only_revision_id is null or excuse.only_revision_id = revision.id)
  and excuse.confirmed_at is null and excuse.level <> 'note'
  and exists (
    select from review_findingrecord finding
    where finding.run_id = run.id
    and (
      (
        excuse.members = '{}'
        and (
          finding.fingerprint = excuse.fingerprint
          or (finding.cause <> '' and finding.cause = excuse.fingerprint)
          or jsonb_exists(finding.members, excuse.fingerprint)
        )
      )
      or exists (
        select from jsonb_each_text(finding.members) as fault (fingerprint, places)
        where (excuse.members->>fault.fingerprint)::int >= fault.places::int
      )
    )
  )
) accepted on true;
"""


def _mark_approvers(apps, schema_editor):
    """Excuses of today were made by approvers where their people are approvers today."""
    approvers = apps.get_model("workspace", "Membership").objects.filter(roles__contains=["approver"])
    excuses = apps.get_model("review", "Excuse").objects
    for workspace, user in approvers.values_list("workspace", "user"):
        excuses.filter(mailing__workspace=workspace, by=user).update(by_approver=True)


class Migration(migrations.Migration):
    """The columns, the view made anew, and its model for Django's state."""

    dependencies = [
        ("review", "0009_comments_hold"),
        ("workspace", "0011_clearing"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]
    operations = [
        migrations.RunSQL(_DROP, _BEFORE.FORWARD),
        migrations.AddField("stationlook", "left_out", models.CharField(max_length=300, blank=True, default="")),
        migrations.AddField("excuse", "by_approver", models.BooleanField(default=False)),
        migrations.AddField("excuse", "confirmed_at", models.DateTimeField(null=True, blank=True)),
        migrations.AddField(
            "excuse",
            "confirmed_by",
            models.ForeignKey(
                null=True, blank=True, on_delete=django.db.models.deletion.PROTECT, related_name="+", to=settings.AUTH_USER_MODEL
            ),
        ),
        migrations.RunPython(_mark_approvers, migrations.RunPython.noop),
        migrations.RunSQL(FORWARD, _DROP),
        migrations.RemoveField("readinessfacts", "looked"),
        *(
            migrations.AddField(
                "readinessfacts", name, django.contrib.postgres.fields.ArrayField(base_field=models.CharField(max_length=20), size=None)
            )
            for name in ("looked_at", "left_out")
        ),
        migrations.AddField("readinessfacts", "unconfirmed", models.PositiveIntegerField()),
        migrations.AddField("readinessfacts", "unconfirmed_of_reviewers", models.PositiveIntegerField()),
        migrations.AddField("readinessfacts", "newer", models.PositiveIntegerField(null=True)),
        migrations.AddField("readinessfacts", "is_checking", models.BooleanField()),
    ]
