using System.Runtime.InteropServices;
using Microsoft.AspNetCore.Identity;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.People;

/// <summary>
/// Where passwords are hashed: one at a time, with a short queue, on a thread that gives way to all others. Hashing is made to be dear, so whoever can have much of it
/// done could stop everything else.
/// </summary>
public sealed partial class HashLane
{
    /// <summary>A nice value (setpriority(2)): with the cores busy otherwise, hashing gets about a tenth of one.</summary>
    private const int GivesWay = 10;

    /// <summary>setpriority(2), which for Linux means the calling thread when it is asked for number 0.</summary>
    private const int OfProcess = 0;

    /// <summary>Checks that may wait; a check takes some fifty milliseconds.</summary>
    public const int MostWaiting = 16;

    private readonly SemaphoreSlim _one = new(1, 1);

    // Most starts see no password for long.
    private readonly Lazy<PasswordHasher<Person>> _hasher = new(() => new());

    // An unknown name costs as much as a known one. It is made by the first check, whatever name that has.
    private readonly Lazy<string> _nobody = new(() => new PasswordHasher<Person>().HashPassword(null!, "no such person"));
    private int _waiting;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.TooBusy"/>.</exception>
    public Task<string> HashAsync(string password, CancellationToken ct) =>
        InTurnAsync(() => _hasher.Value.HashPassword(null!, password), ct);

    /// <param name="hash">Null for a name that is not known.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.TooBusy"/>.</exception>
    public Task<PasswordVerificationResult> VerifyAsync(string? hash, string password, CancellationToken ct)
    {
        return InTurnAsync(Verify, ct);

        PasswordVerificationResult Verify()
        {
            var nobody = _nobody.Value;
            return _hasher.Value.VerifyHashedPassword(null!, hash is { Length: > 0 } ? hash : nobody, password);
        }
    }

    private async Task<T> InTurnAsync<T>(Func<T> work, CancellationToken ct)
    {
        if (Interlocked.Increment(ref _waiting) > MostWaiting)
        {
            Interlocked.Decrement(ref _waiting);
            throw new BeaconProblem(ProblemCode.TooBusy, "Too many people are signing in at this moment.", "Try again in a few seconds.");
        }
        try
        {
            await _one.WaitAsync(ct);
            try
            {
                return await Task.Factory.StartNew(
                    () =>
                    {
                        _ = SetPriority(OfProcess, 0, GivesWay);
                        return work();
                    },
                    ct,
                    // A thread of its own, which ends with the work: a thread may give way, but not take it back.
                    TaskCreationOptions.LongRunning,
                    TaskScheduler.Default
                );
            }
            finally
            {
                _one.Release();
            }
        }
        finally
        {
            Interlocked.Decrement(ref _waiting);
        }
    }

    [LibraryImport("libc", EntryPoint = "setpriority")]
    private static partial int SetPriority(int which, uint who, int nice);
}
