from django.urls import path

from nembrit.web.packs import views

app_name = "packs"
urlpatterns = [
    path("packs/", views.pack_list, name="packs"),
    path("packs/<int:pack_id>/", views.pack_page, name="pack"),
    path("packs/<int:pack_id>/note/", views.pack_note, name="note"),
    path("packs/<int:pack_id>/retire/", views.pack_retire, name="retire"),
    path("craft/<int:craft_id>/fit/", views.fit, name="fit"),
]
