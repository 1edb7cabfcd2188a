"""The call path: the stages a call passes, in order."""

from enum import StrEnum


class Stage(StrEnum):
    """One stage of a call's way through the gateway."""

    RECEIVE = "receive"
    GUARD = "guard"
    IDENTIFY = "identify"
    PERMIT = "permit"
    METER = "meter"
    SHAPE = "shape"
    ANSWER = "answer"
    FORWARD = "forward"
    RETURN = "return"
    ON_ERROR = "on-error"

    @property
    def label(self) -> str:
        return self.value.replace("-", " ").capitalize()


DRAWN: tuple[Stage, ...] = tuple(stage for stage in Stage if stage not in (Stage.RECEIVE, Stage.ON_ERROR))
"""The stages that hold policies, in the order of the drawing; Receive is the gateway's own reading, and On error, which
whatever ends a call before its answer comes to, is drawn below."""

PURPOSE: dict[Stage, str] = {
    Stage.RECEIVE: "Read the call and find the operation it asks for",
    Stage.GUARD: "Turn away what no caller may send",
    Stage.IDENTIFY: "Find out who calls",
    Stage.PERMIT: "Decide whether this caller may",
    Stage.METER: "Count, and hold callers to their limits",
    Stage.SHAPE: "Change the request",
    Stage.ANSWER: "Answer without asking the backend",
    Stage.FORWARD: "Choose a target and ask it",
    Stage.RETURN: "Change the answer on its way back",
    Stage.ON_ERROR: "Answer refusals and failures another way",
}
