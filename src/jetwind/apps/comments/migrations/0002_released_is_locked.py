"""A released mailing takes a thread of comments no more."""

from django.db import migrations

FORWARD = """
create trigger released_is_locked before insert on comments_thread
  for each row execute function jetwind_released_is_locked();
"""


class Migration(migrations.Migration):
    """Trigger on comments_thread."""

    dependencies = [("comments", "0001_initial"), ("intake", "0002_state_rules")]
    operations = [migrations.RunSQL(FORWARD, "drop trigger released_is_locked on comments_thread;")]
