using System.Diagnostics;
using System.Text.Json;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A host whose agent runs.</summary>
internal sealed class RunningHost(AttackedWorld world, Scratch s, string name) : IAsyncDisposable
{
    private Process? _agent;
    private string _folder = "";

    public string Name => name;
    public string Store => Path.Combine(_folder, "store");

    /// <param name="joined">What is done with the agent's folder before it runs.</param>
    public async Task<RunningHost> StartAsync(string owner, Action<string>? joined = null)
    {
        (_, _folder) = await world.JoinAsync(s, name, owner);
        joined?.Invoke(_folder);
        _agent = Process.Start(
            new ProcessStartInfo(Own.Agent, ["run", "--state", _folder]) { RedirectStandardOutput = true, RedirectStandardError = true }
        )!;
        _agent.OutputDataReceived += (_, _) => { };
        _agent.ErrorDataReceived += (_, _) => { };
        _agent.BeginOutputReadLine();
        _agent.BeginErrorReadLine();
        await UntilAsync(async () => (await HostAsync()).SealKey is not null);
        return this;
    }

    public async Task<HostDetail> HostAsync() =>
        (await CallAsync(world.Robin, "GET", "hosts/" + name)).Json.Deserialize(BeaconJson.Default.HostDetail)!;

    public async ValueTask DisposeAsync()
    {
        // Asked to end, so that it is not in the middle of a call: what the service makes of that is another test's affair.
        Programs.Run("kill", ["-TERM", _agent!.Id.ToString()]);
        if (!_agent.WaitForExit(TimeSpan.FromSeconds(10)))
            _agent.Kill();
        await _agent.WaitForExitAsync();
    }

    public static async Task UntilAsync(Func<Task<bool>> there)
    {
        // What is looked at every quarter of a minute takes longer on a busy machine.
        for (var i = 0; i < 600; i++)
        {
            if (await there())
                return;
            await Task.Delay(100);
        }
        Assert.Fail("it did not come about");
    }
}
