from django.urls import path

from nembrit.web.hangar import views

app_name = "hangar"
urlpatterns = [
    path("craft/new/", views.craft_new, name="craft_new"),
    path("craft/<int:craft_id>/edit/", views.craft_edit, name="craft_edit"),
    path("craft/<int:craft_id>/motors/", views.craft_motors, name="craft_motors"),
    path("craft/<int:craft_id>/surfaces/", views.craft_surfaces, name="craft_surfaces"),
    path("craft/<int:craft_id>/archive/", views.craft_archive, name="craft_archive"),
    path("craft/<int:craft_id>/configurations/new/", views.configuration_new, name="configuration_new"),
    path("craft/<int:craft_id>/names/", views.names, name="names"),
    path("craft/<int:craft_id>/builds/new/", views.build_new, name="build_new"),
    path("configurations/<int:configuration_id>/", views.configuration, name="configuration"),
    path("configurations/<int:configuration_id>/give.<str:form>", views.configuration_give, name="configuration_give"),
    path("configurations/<int:configuration_id>/reference/", views.configuration_reference, name="configuration_reference"),
]
