from django.urls import path

from nembrit.web.tunes.views import craft, slip

app_name = "tunes"
urlpatterns = [
    path("", craft.hangar, name="hangar"),
    path("craft/<int:craft_id>/", craft.craft, name="craft"),
    path("craft/<int:craft_id>/flights/", craft.flights_many, name="flights_many"),
    path("craft/<int:craft_id>/tune/", craft.tune, name="tune"),
    path("craft/<int:craft_id>/tune/new/", craft.tune_new, name="tune_new"),
    path("craft/<int:craft_id>/slips/new/", slip.slip_new, name="slip_new"),
    path("<flight:flight_id>/repair/", slip.repair, name="repair"),
    path("slips/<int:slip_id>/", slip.slip, name="slip"),
    path("slips/<int:slip_id>/charts/<str:kind>/<str:axis>.json", slip.slip_chart, name="slip_chart"),
    path("slips/<int:slip_id>/decide/", slip.slip_decide, name="slip_decide"),
    path("slips/<int:slip_id>/flights/<int:flight_id>/", slip.slip_answer, name="slip_answer"),
    path("slips/<int:slip_id>/extend/", slip.slip_extend, name="slip_extend"),
    path("slips/<int:slip_id>/card/", slip.slip_card, name="slip_card"),
]
