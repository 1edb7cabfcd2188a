"""Subscribers: organizations, people, applications, requests, announcements."""
