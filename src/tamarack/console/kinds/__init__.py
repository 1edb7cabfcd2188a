"""The policy kinds that the team writes itself."""
