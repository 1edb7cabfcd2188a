"""The demo: Skerry Sound Ferries' configuration, people, stand-ins, past traffic, and a driver of new calls."""
