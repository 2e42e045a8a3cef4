"""The one error of the core: input that is refused, with what is wrong and what to do about it."""


class Refused(ValueError):
    """Input that cannot be accepted.

    ``kind`` is a stable word in kebab-case for programs (it becomes the problem type of the API), ``detail``
    says what is wrong with the values at fault, ``mend`` says what to do next.
    """

    def __init__(self, kind: str, detail: str, mend: str = "") -> None:
        super().__init__(f"{detail} {mend}".strip())
        self.kind = kind
        self.detail = detail
        self.mend = mend
