using System;

namespace TinClock.Kit
{
    /// <summary>BLAKE2b (RFC 7693) with a key: what the spread's stream is made of.</summary>
    public static class Blake2b
    {
        static readonly ulong[] Iv =
        {
            0x6a09e667f3bcc908, 0xbb67ae8584caa73b, 0x3c6ef372fe94f82b, 0xa54ff53a5f1d36f1,
            0x510e527fade682d1, 0x9b05688c2b3e6c1f, 0x1f83d9abfb41bd6b, 0x5be0cd19137e2179,
        };
        static readonly int[][] Sigma =
        {
            new[] { 0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15 }, new[] { 14, 10, 4, 8, 9, 15, 13, 6, 1, 12, 0, 2, 11, 7, 5, 3 },
            new[] { 11, 8, 12, 0, 5, 2, 15, 13, 10, 14, 3, 6, 7, 1, 9, 4 }, new[] { 7, 9, 3, 1, 13, 12, 11, 14, 2, 6, 5, 10, 4, 0, 15, 8 },
            new[] { 9, 0, 5, 7, 2, 4, 10, 15, 14, 1, 11, 12, 6, 8, 3, 13 }, new[] { 2, 12, 6, 10, 0, 11, 8, 3, 4, 13, 7, 5, 15, 14, 1, 9 },
            new[] { 12, 5, 1, 15, 14, 13, 4, 10, 0, 7, 6, 3, 9, 2, 8, 11 }, new[] { 13, 11, 7, 14, 12, 1, 3, 9, 5, 0, 15, 4, 8, 6, 2, 10 },
            new[] { 6, 15, 14, 9, 11, 3, 0, 8, 12, 2, 13, 7, 1, 4, 10, 5 }, new[] { 10, 2, 8, 4, 7, 6, 1, 5, 15, 11, 9, 14, 3, 12, 13, 0 },
        };

        static ulong Turned(ulong value, int right) => (value >> right) | (value << (64 - right));

        static void Mix(ulong[] v, int a, int b, int c, int d, ulong x, ulong y)
        {
            v[a] += v[b] + x; v[d] = Turned(v[d] ^ v[a], 32);
            v[c] += v[d]; v[b] = Turned(v[b] ^ v[c], 24);
            v[a] += v[b] + y; v[d] = Turned(v[d] ^ v[a], 16);
            v[c] += v[d]; v[b] = Turned(v[b] ^ v[c], 63);
        }

        static void Compress(ulong[] h, byte[] text, int at, ulong counted, bool last)
        {
            var v = new ulong[16];
            var m = new ulong[16];
            for (var k = 0; k < 16; k++) m[k] = BitConverter.ToUInt64(text, at + 8 * k);
            Array.Copy(h, v, 8);
            Array.Copy(Iv, 0, v, 8, 8);
            v[12] ^= counted;
            if (last) v[14] = ~v[14];
            for (var round = 0; round < 12; round++)
            {
                var s = Sigma[round % 10];
                for (var k = 0; k < 4; k++) Mix(v, k, 4 + k, 8 + k, 12 + k, m[s[2 * k]], m[s[2 * k + 1]]);
                for (var k = 0; k < 4; k++)
                    Mix(v, k, 4 + (k + 1) % 4, 8 + (k + 2) % 4, 12 + (k + 3) % 4, m[s[8 + 2 * k]], m[s[9 + 2 * k]]);
            }
            for (var k = 0; k < 8; k++) h[k] ^= v[k] ^ v[k + 8];
        }

        /// <summary>The digest, so many bytes long, of a text under a key of at most 64 bytes.</summary>
        public static byte[] Digest(byte[] text, byte[] key, int size)
        {
            var h = (ulong[])Iv.Clone();
            h[0] ^= 0x01010000UL ^ ((ulong)key.Length << 8) ^ (ulong)size;
            var before = key.Length > 0 ? 128 : 0;
            var length = before + text.Length;
            var padded = new byte[Math.Max(128, (length + 127) / 128 * 128)];
            key.CopyTo(padded, 0);
            text.CopyTo(padded, before);
            var at = 0;
            for (; length - at > 128; at += 128) Compress(h, padded, at, (ulong)(at + 128), false);
            Compress(h, padded, at, (ulong)length, true);
            var all = new byte[64];
            for (var k = 0; k < 8; k++) BitConverter.GetBytes(h[k]).CopyTo(all, 8 * k);
            Array.Resize(ref all, size);
            return all;
        }
    }
}
