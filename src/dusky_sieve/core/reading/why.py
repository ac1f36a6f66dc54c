"""Why a photo on which no sheet was found may be at fault, and what to do about it."""

import cv2
import numpy as np
from numpy.typing import NDArray

Photo = NDArray[np.uint8]

SHARPEST = 0.995  # quantile of the slopes of brightness that stands for the sharpest edges
BLURRED_BELOW = 0.35  # steepness of those edges against the same at a quarter of the size; sharp photos have 0.5 to 1.5
DARK_BELOW = 55  # of 255: the brightest twentieth of a photo that is all but dark
BLEACHED_FROM = 0.4  # share of a photo where the sensor is full


def remedy(small: Photo) -> str:
    """What to do, in one or two sentences, from the photo (rows, columns, 3) at the size used for finding."""
    grey = cv2.cvtColor(small, cv2.COLOR_RGB2GRAY)
    if float(np.quantile(grey, 0.95)) < DARK_BELOW:
        return "It is all but dark: photograph the sheet by a window or under a lamp."
    if float((cv2.inRange(small, (252, 252, 252), (255, 255, 255)) > 0).mean()) > BLEACHED_FROM:
        return "It is bleached by too much light: move the lamp away or step out of the sun, and photograph it again."
    if _steepness(grey.astype(np.float32)) < BLURRED_BELOW:
        return "It is out of focus: rest the phone on something, tap on the sheet to focus, and photograph it again."
    return (
        "Photograph the whole printed pattern flat, sharp and filling most of the frame, "
        "or check that this is the right printer's sheet."
    )


def _steepness(grey: NDArray[np.float32]) -> float:
    """How steep the sharpest edges are, against the same edges at a quarter of the size: a step stays as steep."""

    def steepest(picture: NDArray[np.float32]) -> float:
        across, down = (cv2.Sobel(picture, cv2.CV_32F, *way) for way in ((1, 0), (0, 1)))
        return float(np.quantile(np.hypot(across, down), SHARPEST))

    quarter = cv2.resize(grey, None, fx=0.25, fy=0.25, interpolation=cv2.INTER_AREA)
    return steepest(grey) / max(steepest(np.asarray(quarter, np.float32)), 1e-6)
