"""Policy kinds that a team writes itself: parameters, and steps of conditions and actions, checked when saved."""
