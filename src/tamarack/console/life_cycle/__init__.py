"""The life of a version: its form, the next one, the two compared, who still calls, what developers say."""
