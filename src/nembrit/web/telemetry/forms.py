from typing import Any

from django import forms

from nembrit.web.telemetry.models import Source


class SourceForm(forms.ModelForm):  # type: ignore[type-arg]  # Django’s forms take no parameter
    """Where a craft's telemetry comes from, and its link."""

    class Meta:
        model = Source
        fields = ("kind", "host", "port", "device", "baud", "capacity_mah", "link_host", "link_port")

    def clean(self) -> dict[str, Any]:
        data: dict[str, Any] = super().clean() or {}
        if data.get("kind") == "serial" and not data.get("device"):
            self.add_error("device", "Which port? Such as /dev/ttyUSB0 or COM3.")
        for name in ("port", "link_port"):
            value = data.get(name)
            if value is not None and not 1024 <= value <= 65_535:
                self.add_error(name, "A port is a number from 1024 to 65535.")
        if data.get("capacity_mah") is not None and not 50 <= data["capacity_mah"] <= 200_000:
            self.add_error("capacity_mah", "A pack holds 50 to 200000 mAh.")
        if data.get("baud") is not None and not 300 <= data["baud"] <= 4_000_000:
            self.add_error("baud", "From 300 to 4000000 baud.")
        return data
