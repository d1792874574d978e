from django.urls import path

from nembrit.web.planning import views

app_name = "planning"
urlpatterns = [
    path("craft/<int:craft_id>/sessions/", views.sessions, name="sessions"),
    path("craft/<int:craft_id>/sessions/calendar.ics", views.calendar, name="calendar"),
    path("craft/<int:craft_id>/sessions/<int:session_id>/away/", views.session_away, name="session_away"),
]
