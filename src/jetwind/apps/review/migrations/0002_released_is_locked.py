"""A released mailing takes an excuse no more."""

from django.db import migrations

FORWARD = """
create trigger released_is_locked before insert on review_excuse
  for each row execute function jetwind_released_is_locked();
"""


class Migration(migrations.Migration):
    """Trigger on review_excuse."""

    dependencies = [("review", "0001_initial"), ("intake", "0002_state_rules")]
    operations = [migrations.RunSQL(FORWARD, "drop trigger released_is_locked on review_excuse;")]
