"""An incremental encoder: two channels, counted at every edge, and an index."""

from __future__ import annotations

from crisp_compass.sensing.sensor import Sensor

SENSOR = Sensor(
    "incremental",
    "encoder",
    "encoder",
    leads=(("enc A", "enc_a"), ("enc B", "enc_b"), ("enc Z", "enc_z"), ("+5 V", "+5 V"), ("0 V", "0 V")),
    counted=True,
    turned="Find the encoder's zero again.",
    mirrored="Invert the encoder's direction too, or the loop runs away; find its zero again.",
    sequence="encoder",
    turn_round="exchange the channels A and B of the encoder, or set its count direction in the drive",
    proven_by=("encoder", "absolute", "alignment", "pole_search"),
)
