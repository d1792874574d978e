"""Numbers in the words of findings."""


def signed(value: float, places: int = 0) -> str:
    """With its sign, a true minus.

    >>> signed(-18.2), signed(4.96, 1), signed(-0.2)
    ('−18', '+5.0', '+0')
    """
    return f"{round(value, places) + 0.0:+.{places}f}".replace("-", "−")
