"""Rules of state that hold whoever writes: revisions never change, and a released mailing takes nothing more."""

from django.db import migrations

FORWARD = """
create function jetwind_revision_is_immutable() returns trigger language plpgsql as $$
begin
  raise exception 'a revision never changes' using errcode = 'integrity_constraint_violation';
end $$;
create trigger revision_is_immutable before update on intake_revision
  for each row execute function jetwind_revision_is_immutable();

create function jetwind_released_is_locked() returns trigger language plpgsql as $$
begin
  -- The row lock makes a release that is under way finish first.
  perform 1 from intake_mailing where id = new.mailing_id for share;
  if (select stage from intake_mailing where id = new.mailing_id) = 'released' then
    raise exception 'the message is released and locked' using errcode = 'integrity_constraint_violation';
  end if;
  return new;
end $$;
create trigger released_is_locked before insert on intake_revision
  for each row execute function jetwind_released_is_locked();

create function jetwind_released_mailing_stays() returns trigger language plpgsql as $$
begin
  if old.stage = 'released' then
    raise exception 'the message is released and locked' using errcode = 'integrity_constraint_violation';
  end if;
  return new;
end $$;
create trigger released_mailing_stays before update on intake_mailing
  for each row execute function jetwind_released_mailing_stays();
"""
BACKWARD = """
drop trigger released_mailing_stays on intake_mailing; drop function jetwind_released_mailing_stays();
drop trigger released_is_locked on intake_revision; drop function jetwind_released_is_locked();
drop trigger revision_is_immutable on intake_revision; drop function jetwind_revision_is_immutable();
"""


class Migration(migrations.Migration):
    """Triggers on mailings and revisions."""

    dependencies = [("intake", "0001_initial")]
    operations = [migrations.RunSQL(FORWARD, BACKWARD)]
