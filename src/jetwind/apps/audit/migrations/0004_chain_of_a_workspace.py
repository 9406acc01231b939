"""Each workspace has a chain of its own, and entries name their workspace, so that pages find them by an index."""

from django.db import migrations, models

# Entries stay in the chain in which they were written; the workspace that they concern is not covered by their hash.
NAME_WORKSPACES = """
alter table audit_logentry disable trigger log_is_append_only;
update audit_logentry entry set workspace_id = mailing.workspace_id from intake_mailing mailing where mailing.id = entry.mailing_id;
update audit_logentry set workspace_id = (data->>'house')::bigint where mailing_id is null and data ? 'house';
alter table audit_logentry enable trigger log_is_append_only;
"""


class Migration(migrations.Migration):
    """The columns, the workspaces of what is there, and then the indexes."""

    dependencies = [("audit", "0003_verified"), ("intake", "0001_initial")]
    operations = [
        migrations.AddField("logentry", "chain", models.BigIntegerField(default=0)),
        migrations.AddField("logentry", "workspace_id", models.BigIntegerField(null=True)),
        migrations.AlterField("logentry", "mailing_id", models.BigIntegerField(null=True)),
        migrations.RunSQL(NAME_WORKSPACES, migrations.RunSQL.noop),
        migrations.AddIndex("logentry", models.Index(fields=["chain", "-id"], name="newest_of_a_chain")),
        migrations.AddIndex("logentry", models.Index(fields=["mailing_id", "-id"], name="newest_of_a_mailing")),
        migrations.AddIndex(
            "logentry", models.Index(fields=["workspace_id", "-id"], condition=models.Q(("mailing_id", None)), name="newest_of_a_workspace")
        ),
    ]
