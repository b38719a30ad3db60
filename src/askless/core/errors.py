"""The one family of errors: a slug for programs, a message and a remedy for people."""

from __future__ import annotations


class AskLessError(Exception):
    """Something that the person at the terminal can put right.

    `slug` is stable and short; `message` says what is wrong and where; `remedy` says what to do.
    """

    def __init__(self, slug: str, message: str, remedy: str = "") -> None:
        super().__init__(message)
        self.slug = slug
        self.message = message
        self.remedy = remedy

    def __reduce__(self) -> tuple[type[AskLessError], tuple[str, str, str]]:
        """As it comes from another process."""
        return type(self), (self.slug, self.message, self.remedy)
