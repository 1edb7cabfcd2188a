"""What a machine needs to become a node: the node's package, the list of packages it needs, and the script that sets it
all up.
"""
