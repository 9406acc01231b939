"""The view of readiness counts open threads of comments, where a workspace has them hold a message back."""

from importlib import import_module

from django.db import migrations, models

_BEFORE = import_module("jetwind.apps.review.migrations.0008_facts_of_readiness")

# As before it, with the last column.
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
  looked.stations as looked,
  looked.clear as clear,
  said.threads as comments
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
  select count(*) as stations, count(*) filter (where station <> all (coalesce(found.weighty, '{}'))) as clear
  from review_stationlook where revision_id = revision.id and station <> 'sign-off'
) looked on true
left join lateral (
  select count(*) as threads
  from comments_thread thread
  join intake_revision begun on begun.id = thread.revision_id
  join intake_mailing mailing on mailing.id = thread.mailing_id
  join workspace_workspace workspace on workspace.id = mailing.workspace_id
  where thread.mailing_id = revision.mailing_id and thread.settled_at is null
  and begun.number <= revision.number and workspace.comments_hold
) said on true;
"""


class Migration(migrations.Migration):
    """The view made anew, and its model for Django's state."""

    dependencies = [("review", "0008_facts_of_readiness"), ("comments", "0001_initial"), ("workspace", "0008_comments_hold")]
    operations = [
        migrations.RunSQL(_BEFORE.BACKWARD, _BEFORE.FORWARD),
        migrations.RunSQL(FORWARD, _BEFORE.BACKWARD),
        migrations.AddField("readinessfacts", "comments", models.PositiveIntegerField()),
    ]
