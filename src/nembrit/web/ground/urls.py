from django.urls import path

from nembrit.web.ground import views

app_name = "ground"
urlpatterns = [
    path("ground/", views.obstacles, name="obstacles"),
    path("ground/take-in/", views.take_in, name="take_in"),
    path("ground/obstacles.geojson", views.geojson, name="geojson"),
    path("ground/<int:obstacle_id>/away/", views.obstacle_away, name="obstacle_away"),
    path("ground/sight/", views.sight, name="sight"),
    path("ground/sight/<int:profile_id>/away/", views.profile_away, name="profile_away"),
    path("craft/<int:craft_id>/return/", views.rule, name="rule"),
    path("craft/<int:craft_id>/return/card/", views.return_card, name="return_card"),
]
