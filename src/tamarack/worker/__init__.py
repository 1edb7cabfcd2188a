"""The worker: what is done beside the calls. A file per job."""
