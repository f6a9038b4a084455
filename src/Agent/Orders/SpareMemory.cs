using System.Runtime.InteropServices;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>
/// Gives back to the machine what work has left: an agent waits nearly all of its life beside programs that want the memory, and the collector alone keeps what it once had.
/// </summary>
internal static partial class SpareMemory
{
    public static void GiveBack()
    {
        GC.Collect(GC.MaxGeneration, GCCollectionMode.Aggressive, blocking: true, compacting: true);
        Trim(0);
    }

    /// <summary>The C library's own heap, where the TLS library keeps its things; other C libraries have no such call (malloc_trim(3)).</summary>
    private static void Trim(nuint pad)
    {
        try
        {
            malloc_trim(pad);
        }
        catch (EntryPointNotFoundException) { }
    }

    [LibraryImport("libc")]
    private static partial int malloc_trim(nuint pad);
}
