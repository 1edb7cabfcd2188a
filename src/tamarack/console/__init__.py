"""The console: the platform team's web application. A blueprint file per page group."""
