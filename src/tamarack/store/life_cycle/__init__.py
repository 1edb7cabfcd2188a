"""The life of versions: what developers say of previews, planned steps, and letters to who still calls."""
