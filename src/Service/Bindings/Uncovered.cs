using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;

namespace OrderlyBeacon.Service.Bindings;

/// <summary>Names that a service answers to and a certificate lacks: who binds it says that they are meant to be left out.</summary>
internal static class Uncovered
{
    public static IReadOnlyList<string> Of(HostService service, IReadOnlyList<AlternativeName> names) =>
        service.NamesAreAssumed
            ? []
            : [.. Shapes.Strings(service.NamesJson).Where(n => HostNameMatch.Of(n.Replace("*.", "any."), names, null) != NameMatch.Fits)];

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NamesNotCovered"/>, with the names.</exception>
    public static void ThrowUnlessSaid(string where, IReadOnlyList<string> uncovered, IReadOnlyList<string>? leaveOut)
    {
        var unsaid = uncovered.Except(leaveOut ?? [], StringComparer.OrdinalIgnoreCase).ToList();
        if (unsaid.Count > 0)
            throw new BeaconProblem(
                ProblemCode.NamesNotCovered,
                $"{where} answers to {string.Join(", ", unsaid)} too, which the certificate lacks: clients that use such a name will refuse it.",
                $"Request a certificate with all names; or, when that is meant, say which are left out: --leave-out {unsaid[0]}."
            );
    }
}
