"""Jaws by other rules than those of the demo: swept along the arch instead of cut out of a field, with other arch forms, tooth
sizes, gum and borders. Nothing is ever tuned on them: they are there to judge what was tuned on the others."""

from .mouth import Mouth, SecondJaw, SecondPlan, cheek_strip, mouth, second_plan

__all__ = ["Mouth", "SecondJaw", "SecondPlan", "cheek_strip", "mouth", "second_plan"]
