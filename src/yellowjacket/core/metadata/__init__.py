"""What a file says about its capture: its tags, and what they mean. All of it claims, kept beside the tester's word.

Entry points: ``tags.read_tags``, ``capture.interpret``, ``capture.FrameMetadata``.
"""
