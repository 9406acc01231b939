"""A view that counts what the readiness of a revision follows from, so that lists are filled by the database."""

import django.db.models.deletion
from django.db import migrations, models

# An excuse covers a finding as InForce of review/excusing.py says: whole by its fingerprint or its cause, or each of its faults by one excuse.
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
  looked.clear as clear
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
) looked on true;
"""
BACKWARD = "drop view review_readinessfacts;"


class Migration(migrations.Migration):
    """The view, and its model for Django's state."""

    dependencies = [("review", "0007_together"), ("jobs", "0001_initial"), ("intake", "0001_initial")]
    operations = [
        migrations.RunSQL(FORWARD, BACKWARD),
        migrations.CreateModel(
            name="ReadinessFacts",
            fields=[
                (
                    "revision",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.DO_NOTHING,
                        primary_key=True,
                        related_name="facts",
                        serialize=False,
                        to="intake.revision",
                    ),
                ),
                ("is_checked", models.BooleanField()),
                ("is_busy", models.BooleanField()),
                ("unlooked", models.PositiveIntegerField()),
                ("stops", models.PositiveIntegerField()),
                ("fixes", models.PositiveIntegerField()),
                ("notes", models.PositiveIntegerField()),
                ("looked", models.PositiveIntegerField()),
                ("clear", models.PositiveIntegerField()),
            ],
            options={"managed": False, "verbose_name_plural": "facts of readiness"},
        ),
    ]
