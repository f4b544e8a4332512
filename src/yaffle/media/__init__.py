"""Voice and video: RTP streams, what their ends report, calls, MPEG transport streams, and how voice may have
sounded.
"""
