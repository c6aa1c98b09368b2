"""Ten mistakes that background jobs make, each at Tern Line: the bug, the law that shows it, and the fix.

Every module has `bug(rig)` and `fix(rig)`, two stories that differ by the mistake alone, and `LAWS`, which the first
breaks and the second keeps. ``python -m mistakes`` (from the folder `examples`) shows them all.
"""

NAMES = (
    "charge_repeated_on_retry",
    "enqueue_before_commit",
    "object_instead_of_id",
    "blanket_except",
    "retry_of_the_impossible",
    "lease_shorter_than_the_job",
    "state_on_the_class",
    "swallowed_cancellation",
    "poison_at_the_head",
    "cache_outlives_its_expiry",
)
