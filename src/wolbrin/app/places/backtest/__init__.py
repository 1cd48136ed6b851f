"""Backtest: how would it have traded?"""
