"""Filter programs held against the kernel: rulesets loaded into network namespaces, real packets sent through.

Needs root, network namespaces and nft; ``python -m tests.kernel`` is the long run.
"""
