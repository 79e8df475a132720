"""Registers the pages with Django."""

from django.apps import AppConfig


class WebConfig(AppConfig):
    """The pages."""

    name = "yellowjacket.web"
