"""Every kind of effect, one file each: what it records, its act, whether it happened, its inverse, how a person reads it.

`case/record/effect_table.py` says in which file each stands; a journal loads only its own. A kind of effect that belongs to a kind of
object defined elsewhere is known from the moment its class is defined.
"""
