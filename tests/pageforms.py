"""What a browser would send back for the forms of a page."""

from html.parser import HTMLParser


class _Fields(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.found: dict[str, str] = {}
        self._open = ""

    def handle_starttag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        given = dict(attributes)
        if tag == "input" and given.get("name") and given.get("type") not in ("file", "submit"):
            if given.get("type") not in ("checkbox", "radio") or "checked" in given:
                self.found[given["name"]] = given.get("value") or ""
        elif tag in ("select", "textarea"):
            self._open = given.get("name") or ""
            self.found[self._open] = ""
        elif tag == "option" and "selected" in given and self._open:
            self.found[self._open] = given.get("value") or ""

    def handle_endtag(self, tag: str) -> None:
        if tag in ("select", "textarea"):
            self._open = ""

    def handle_data(self, data: str) -> None:
        if self._open and self.get_starttag_text().startswith("<textarea"):
            self.found[self._open] += data


def fields_of(page: str) -> dict[str, str]:
    """Names and values of all fields of a page, as they stand."""
    reader = _Fields()
    reader.feed(page)
    return {name: value.removeprefix("\n") for name, value in reader.found.items() if name}
