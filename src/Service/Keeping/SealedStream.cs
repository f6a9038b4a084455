using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Keeping;

/// <summary>
/// The form of a backup's file: a head (magic, salt, rounds), then blocks of AES-256-GCM. A block's number and whether it is the last are authenticated with it, so that
/// none can be changed, moved, left out or cut off unseen. The key is derived from a passphrase by PBKDF2 with SHA-512 (RFC 8018).
/// </summary>
internal static class SealedStream
{
    private const int Block = 64 << 10,
        Rounds = 600_000,
        MostRounds = 10_000_000;
    private static readonly byte[] Magic = Encoding.ASCII.GetBytes("orderly-beacon-backup-1\n");

    public static async Task WriteAsync(Stream from, Stream to, string passphrase, CancellationToken ct)
    {
        if (passphrase.Length < 12)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "The passphrase has under 12 characters.",
                "Take a longer one, as of five words: the file holds the authority's keys."
            );
        var head = new byte[Magic.Length + 20];
        Magic.CopyTo(head, 0);
        RandomNumberGenerator.Fill(head.AsSpan(Magic.Length, 16));
        BinaryPrimitives.WriteInt32BigEndian(head.AsSpan(Magic.Length + 16), Rounds);
        await to.WriteAsync(head, ct);
        using var gcm = new AesGcm(KeyOf(passphrase, head.AsSpan(Magic.Length, 16).ToArray(), Rounds), 16);
        var plain = new byte[Block];
        var sealedBlock = new byte[Block + 16 + 5];
        for (var n = 0; ; n++)
        {
            var length = await from.ReadAtLeastAsync(plain, Block, throwOnEndOfStream: false, ct);
            var last = length < Block;
            BinaryPrimitives.WriteInt32BigEndian(sealedBlock, length);
            sealedBlock[4] = last ? (byte)1 : (byte)0;
            gcm.Encrypt(
                NonceOf(n),
                plain.AsSpan(0, length),
                sealedBlock.AsSpan(5, length),
                sealedBlock.AsSpan(5 + length, 16),
                sealedBlock.AsSpan(0, 5)
            );
            await to.WriteAsync(sealedBlock.AsMemory(0, 5 + length + 16), ct);
            if (last)
                return;
        }
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.WrongFile"/>, <see cref="ProblemCode.PassphraseWrong"/> or <see cref="ProblemCode.DataDamaged"/>.</exception>
    public static async Task ReadAsync(Stream from, Stream to, string passphrase, CancellationToken ct)
    {
        var head = new byte[Magic.Length + 20];
        if (
            await from.ReadAtLeastAsync(head, head.Length, throwOnEndOfStream: false, ct) < head.Length
            || !head.AsSpan(0, Magic.Length).SequenceEqual(Magic)
        )
            throw new BeaconProblem(ProblemCode.WrongFile, "This is no backup of a service.", "Give the file that beacon backup wrote.");
        var rounds = BinaryPrimitives.ReadInt32BigEndian(head.AsSpan(Magic.Length + 16));
        if (rounds is < 100_000 or > MostRounds)
            throw Damaged("its head was altered");
        using var gcm = new AesGcm(KeyOf(passphrase, head.AsSpan(Magic.Length, 16).ToArray(), rounds), 16);
        var (mark, cipher, plain) = (new byte[5], new byte[Block + 16], new byte[Block]);
        for (var n = 0; ; n++)
        {
            if (await from.ReadAtLeastAsync(mark, 5, throwOnEndOfStream: false, ct) < 5)
                throw Damaged("it ends too early");
            var length = BinaryPrimitives.ReadInt32BigEndian(mark);
            if (length is < 0 or > Block)
                throw Damaged($"block {n} was altered");
            if (await from.ReadAtLeastAsync(cipher.AsMemory(0, length + 16), length + 16, throwOnEndOfStream: false, ct) < length + 16)
                throw Damaged("it ends too early");
            try
            {
                gcm.Decrypt(NonceOf(n), cipher.AsSpan(0, length), cipher.AsSpan(length, 16), plain.AsSpan(0, length), mark);
            }
            catch (AuthenticationTagMismatchException)
            {
                throw n == 0
                    ? new BeaconProblem(
                        ProblemCode.PassphraseWrong,
                        "The passphrase does not open this backup, or the file was altered.",
                        "Type the passphrase it was made with; if it is right for certain, take another copy of the file."
                    )
                    : Damaged($"block {n} was altered");
            }
            await to.WriteAsync(plain.AsMemory(0, length), ct);
            if (mark[4] == 1)
                return;
        }
    }

    private static byte[] KeyOf(string passphrase, byte[] salt, int rounds) =>
        Rfc2898DeriveBytes.Pbkdf2(passphrase, salt, rounds, HashAlgorithmName.SHA512, 32);

    // Each file has a key of its own, so that a count is never used twice with one.
    private static byte[] NonceOf(int n)
    {
        var nonce = new byte[12];
        BinaryPrimitives.WriteInt32BigEndian(nonce.AsSpan(8), n);
        return nonce;
    }

    private static BeaconProblem Damaged(string what) =>
        new(ProblemCode.DataDamaged, $"The backup cannot be used: {what}.", "Take another copy of the file.");
}
