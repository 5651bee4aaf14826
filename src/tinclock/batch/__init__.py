"""The same question put to many recordings, on the cores of one machine or on a cluster."""
