"""Settings: people, secrets, keys, the portal, the export."""
