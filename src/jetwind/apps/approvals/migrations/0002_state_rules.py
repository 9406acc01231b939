"""Nobody signs what they uploaded, nobody signs after the release: whoever writes."""

from django.db import migrations

FORWARD = """
create trigger released_is_locked before insert on approvals_signoff
  for each row execute function jetwind_released_is_locked();

create function jetwind_uploader_does_not_sign() returns trigger language plpgsql as $$
begin
  if exists (select 1 from intake_revision where mailing_id = new.mailing_id and uploaded_by_id = new.by_id) then
    raise exception 'whoever uploaded a revision does not sign it' using errcode = 'integrity_constraint_violation';
  end if;
  if new.content_sha256 <> (select content_sha256 from intake_revision where id = new.revision_id) then
    raise exception 'a sign-off is over the content of its revision' using errcode = 'integrity_constraint_violation';
  end if;
  return new;
end $$;
create trigger uploader_does_not_sign before insert on approvals_signoff
  for each row execute function jetwind_uploader_does_not_sign();
"""
BACKWARD = """
drop trigger uploader_does_not_sign on approvals_signoff; drop function jetwind_uploader_does_not_sign();
drop trigger released_is_locked on approvals_signoff;
"""


class Migration(migrations.Migration):
    """Triggers on sign-offs."""

    dependencies = [("approvals", "0001_initial"), ("intake", "0002_state_rules")]
    operations = [migrations.RunSQL(FORWARD, BACKWARD)]
