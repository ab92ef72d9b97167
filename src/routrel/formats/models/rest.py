"""What no published model says of a device: a module of ours, one leaf of JSON in the network file's keys."""

REST_MODULE, REST = "routrel-device", "not-in-models"
LEAF = "network-file"
