"""All compiled code: arrays in, arrays out. Nothing here knows a class of ours, validates, or reads a clock."""
