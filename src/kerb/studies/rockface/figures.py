"""What is published of a face."""

from __future__ import annotations

from kerb.studies.kind import AREA, HEADLINE, LENGTH, PERCENT, REPORT, SHEET, SUMMARY, VOLUME, FigureAbout

SHOWN = (SHEET, REPORT)
ABOUT = (
    FigureAbout("net", "Net: grown − gone", VOLUME, (HEADLINE, SHEET, SUMMARY, REPORT), signed=True, adds=True),
    FigureAbout("gone", "Gone from the face", VOLUME, (SHEET, SUMMARY, REPORT), adds=True),
    FigureAbout("grown", "Grown before the face", VOLUME, (SHEET, SUMMARY, REPORT), adds=True),
    FigureAbout("gone_area", "Area where it is gone", AREA, SHOWN),
    FigureAbout("grown_area", "Area where it has grown", AREA, SHOWN),
    FigureAbout("face_area", "Area of the face", AREA, SHOWN),
    FigureAbout("only_earlier_area", "Only the earlier covers", AREA, SHOWN),
    FigureAbout("only_later_area", "Only the later covers", AREA, SHOWN),
    FigureAbout("overhang", "Leans over", PERCENT, SHOWN),
    FigureAbout("along", "Length along the face", LENGTH, SHOWN),
    FigureAbout("across", "Height across the face", LENGTH, SHOWN),
    FigureAbout("check_net", "Net by the other way", VOLUME, SHOWN, signed=True),
    FigureAbout("check_percent", "Difference of the two ways", PERCENT, SHOWN, signed=True, optional=True),
)
LABELS = {about.name: about.label for about in ABOUT}
