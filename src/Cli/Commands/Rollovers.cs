using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>What a certificate's next key waits for, where TLSA records in DNS speak of it.</summary>
internal static class Rollovers
{
    public static void Show(RolloverInfo r)
    {
        Hanging($"{(r.IsByHand || r.Problem is not null ? Yellow("◐") : Grey("·"))} ", 2, Told(r));
        // A line of a zone file is copied: it is never wrapped.
        foreach (var t in r.ToDo)
        {
            var act = t.IsAdded ? "add     " : "remove  ";
            Line($"    {(r.Step == RolloverStep.Removing ? act : "")}{t.Line}");
        }
        if (r.Problem is not null)
            Hanging(Red("✕") + " ", 2, r.Problem);
        if (r.Foreign.Count > 0)
            Hanging($"  {Grey("·")} ", 4, $"Not known here, and left as they are: {string.Join("; ", r.Foreign)}");
    }

    private static string Told(RolloverInfo r) =>
        r.Step switch
        {
            RolloverStep.Adding when r.IsByHand => "Its next key is made and waits for DNS. Add to the zone; it continues by itself:",
            RolloverStep.Adding => "Its next key is made; its TLSA records are being added to DNS.",
            RolloverStep.Waiting =>
                $"The records of its next key are in DNS. Others may keep the set before until {r.Until?.UtcDateTime:HH:mm:ss} UTC; then it is issued.",
            RolloverStep.Swapping => "The records of its next key are out; it is being put in.",
            RolloverStep.Removing when r.IsByHand => "It is served. Bring the zone up to date:",
            RolloverStep.Removing => "It is served; the records of the key before are being removed from DNS.",
            _ => "DNS speaks of its key.",
        };

    /// <summary>Follows a certificate whose key is made until its edition is in place, or a person has to do something.</summary>
    /// <returns>The exit code; null when no records are waited for.</returns>
    public static async Task<int?> FollowAsync(
        Api api,
        OrderInfo made,
        string success,
        bool json,
        DateTimeOffset until,
        CancellationToken ct
    )
    {
        string? shown = null;
        while (true)
        {
            var text = await api.TextAsync("/api/v1/certificates/" + Api.Escape(made.Certificate!), ct);
            var d = Api.Read(text, BeaconJson.Default.CertificateDetail);
            if (d.Orders.FirstOrDefault(o => o.Kind == OrderKind.Complete && o.Request == made.Request) is { } complete)
                return await Progress.FollowAsync(api, complete.Id, success, json, ct);
            if (d.Certificate.Rollover is not { } r || d.Certificate.Outside is not null)
            {
                if (shown is null)
                    return null;
                Rich($"{Red("✕")} {d.Certificate.LastError ?? "It was ended before it was issued."}");
                return ExitCodes.Failed;
            }
            var isLong = r.Until > until || DateTimeOffset.UtcNow > until;
            if (!json && shown != Told(r) + r.Problem)
                Show(r);
            shown = Told(r) + r.Problem;
            if (r.IsByHand || isLong)
            {
                if (json)
                    Json(text);
                else
                    Line($"See how it goes on: beacon cert show {made.Certificate}");
                return ExitCodes.Waiting;
            }
            await Task.Delay(500, ct);
        }
    }
}
