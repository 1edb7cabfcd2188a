"""The portal: the developers' web application. A blueprint file per page group."""
