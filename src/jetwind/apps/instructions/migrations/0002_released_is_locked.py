"""A released mailing is sent back no more."""

from django.db import migrations

FORWARD = """
create trigger released_is_locked before insert on instructions_sendingback
  for each row execute function jetwind_released_is_locked();
"""


class Migration(migrations.Migration):
    """Trigger on instructions_sendingback."""

    dependencies = [("instructions", "0001_initial"), ("intake", "0002_state_rules")]
    operations = [migrations.RunSQL(FORWARD, "drop trigger released_is_locked on instructions_sendingback;")]
