"""The steps of ``./jetwind start`` and ``./jetwind test`` once Python is there."""
