from django.urls import path

from nembrit.web.sums import views

app_name = "sums"
urlpatterns = [path("craft/<int:craft_id>/sums/", views.sums, name="sums")]
