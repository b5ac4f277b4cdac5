"""Tests: facts of the field, found out independently of the code they test."""
