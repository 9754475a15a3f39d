"""Running without a sensor: estimators of the angle, their design, what they say of a capture, and start-up."""

import crisp_compass.compiled  # noqa: F401 - says where kernels are kept before the first is made
