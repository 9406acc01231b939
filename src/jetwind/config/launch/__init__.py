"""What ``./jetwind start`` and ``./jetwind test`` do once Python is there."""
