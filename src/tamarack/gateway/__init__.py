"""The gateway: carries the calls. One process is one node; no Flask, and no database on a call's way."""
