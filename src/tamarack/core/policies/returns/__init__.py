"""Kinds of the stage Return: what is changed of an answer on its way back."""
