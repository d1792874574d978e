from django.urls import path

from nembrit.web.simulator import views

app_name = "simulator"
urlpatterns = [path("craft/<int:craft_id>/simulator/", views.simulator, name="simulator")]
