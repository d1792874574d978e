"""Settings given back as the tuner wrote them."""

import pytest

from nembrit.core.setup.configuration import Setting
from nembrit.core.setup.pasted import parse_settings, read_pasted
from nembrit.core.setup.style import PLAIN, Style, style_of, styled


@pytest.mark.parametrize(
    ("text", "style"),
    [
        ("p on roll = 42\nd on roll = 30\n", PLAIN),
        ("p_roll=42\nd_roll=30\n", Style(between="=")),
        ("p_roll: 42\nd_roll: 30\n", Style(between=": ")),
        ("p_roll\t42\nd_roll\t30\n", Style(between="\t")),
        ("p_roll 42\nd_roll 30\n", Style(between=" ")),
        ("let p_roll = 42\nlet d_roll = 30\nlet gyro_hz = 210\nlet mode = fast\n", Style(verb="let")),
        ("[roll]\np = 42\nd = 30\n[pitch]\np = 44\n", PLAIN),
        ("roll: p=208 i=50 d=35\n", Style(between="=")),  # several on a line: each gets a line of its own
        ("", PLAIN),
    ],
)
def test_what_is_given_back_reads_as_what_was_pasted(text: str, style: Style) -> None:
    assert style_of(text) == style
    settings = read_pasted(text).settings
    again = styled(settings, style)
    assert again == text or text.startswith("roll:")
    assert not settings or parse_settings(again) == settings


def test_only_what_changes_keeps_its_section() -> None:
    assert styled([Setting("[pitch] p", "44")], Style(between=": ")) == "[pitch]\np: 44\n"
