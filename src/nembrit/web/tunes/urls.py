from django.urls import path

from nembrit.web.tunes import views

app_name = "tunes"
urlpatterns = [
    path("craft/<int:craft_id>/", views.craft, name="craft"),
    path("craft/<int:craft_id>/tune/", views.tune, name="tune"),
    path("craft/<int:craft_id>/slips/new/", views.slip_new, name="slip_new"),
    path("flights/<int:flight_id>/repair/", views.repair, name="repair"),
    path("slips/<int:slip_id>/", views.slip, name="slip"),
    path("slips/<int:slip_id>/charts/<str:kind>/<str:axis>.json", views.slip_chart, name="slip_chart"),
    path("slips/<int:slip_id>/decide/", views.slip_decide, name="slip_decide"),
    path("slips/<int:slip_id>/flights/<int:flight_id>/", views.slip_leave_out, name="slip_leave_out"),
]
