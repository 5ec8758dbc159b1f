#!/usr/bin/python3
"""The anchor of shared primes: GMP's plain product and remainder tree over RSA public lines, on one core. `gmp_tree.py LINES`, or
`seconds(LINES)` for the time. Needs Debian's python3-gmpy2."""
import base64, sys, time

sys.dont_write_bytecode = True


def modulus(line):
    import gmpy2
    blob, at = base64.b64decode(line.split(b" ")[1]), 0
    for _ in range(3):
        size = int.from_bytes(blob[at:at + 4], "big"); field = blob[at + 4:at + 4 + size]; at += 4 + size
    return gmpy2.mpz(int.from_bytes(field, "big"))


def seconds(path):
    """How long it takes, how many moduli there are, and how many share a prime."""
    import gmpy2
    moduli = [modulus(line) for line in open(path, "rb")]
    begun = time.perf_counter()
    levels = [moduli]
    while len(levels[-1]) > 1:
        last = levels[-1]; levels.append([last[i] * last[i + 1] if i + 1 < len(last) else last[i] for i in range(0, len(last), 2)])
    rests = levels.pop()
    while levels:
        level = levels.pop(); rests = [rests[i // 2] % (n * n) for i, n in enumerate(level)]
    shared = sum(gmpy2.gcd(rest // n, n) != 1 for rest, n in zip(rests, moduli))
    return time.perf_counter() - begun, len(moduli), shared


if __name__ == "__main__":
    took, count, shared = seconds(sys.argv[1])
    print(f"  anchor: GMP's product and remainder tree over {count} takes {took:.1f} s on one core ({shared} share)")
