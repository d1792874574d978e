"""A flight's address holds its craft and its number on that craft: the number that every title shows."""

from nembrit.web.flights.models import Flight


class FlightAddress:
    """`craft/2/flights/9` in an address is the key of flight 9 of craft 2 in a view."""

    regex = r"craft/[0-9]{1,9}/flights/[0-9]{1,9}"

    def to_python(self, value: str) -> int:
        _, craft, _, number = value.split("/")
        key = Flight.objects.filter(craft_id=int(craft), number=int(number)).values_list("pk", flat=True).first()
        if key is None:
            raise ValueError(f"no flight {number} of craft {craft}")  # Django answers this with "not found"
        return key

    def to_url(self, flight: Flight) -> str:
        return f"craft/{flight.craft_id}/flights/{flight.number}"
