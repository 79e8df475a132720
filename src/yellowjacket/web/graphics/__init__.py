"""What charts and sheets are drawn with: one scale for every axis, one drawing for screen and paper."""
