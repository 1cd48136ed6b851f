"""Markets: is this history fit to test on?"""
