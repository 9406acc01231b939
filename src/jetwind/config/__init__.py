"""Settings, addresses, entry points, and the launcher that starts it all."""
