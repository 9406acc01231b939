"""The database itself refuses to change or delete an entry of the log."""

from django.db import migrations

FORWARD = """
create function jetwind_log_is_append_only() returns trigger language plpgsql as $$
begin
  raise exception 'the log is append-only' using errcode = 'integrity_constraint_violation';
end $$;
create trigger log_is_append_only before update or delete on audit_logentry
  for each row execute function jetwind_log_is_append_only();
"""
BACKWARD = "drop trigger log_is_append_only on audit_logentry; drop function jetwind_log_is_append_only();"


class Migration(migrations.Migration):
    """Triggers on the log."""

    dependencies = [("audit", "0001_initial")]
    operations = [migrations.RunSQL(FORWARD, BACKWARD)]
