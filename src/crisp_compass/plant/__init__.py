"""The simulated drive: machines and control as compiled kernels, inverter, sensors and load."""

import crisp_compass.compiled  # noqa: F401 - says where kernels are kept before the first is made
