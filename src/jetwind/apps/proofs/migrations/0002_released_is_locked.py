"""A released mailing takes a test send no more."""

from django.db import migrations

FORWARD = """
create trigger released_is_locked before insert on proofs_testsend
  for each row execute function jetwind_released_is_locked();
"""


class Migration(migrations.Migration):
    """Trigger on proofs_testsend."""

    dependencies = [("proofs", "0001_initial"), ("intake", "0002_state_rules")]
    operations = [migrations.RunSQL(FORWARD, "drop trigger released_is_locked on proofs_testsend;")]
