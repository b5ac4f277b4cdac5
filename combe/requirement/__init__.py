"""What is asked: bands, their limits, phase, delay and cost."""

from combe.requirement.bands import Band, Limit, Requirement
from combe.requirement.reading import read_requirement, requirement_document, requirement_from

__all__ = ["Band", "Limit", "Requirement", "read_requirement", "requirement_document", "requirement_from"]
