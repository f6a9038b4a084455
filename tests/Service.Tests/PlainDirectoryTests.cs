using System.Net;
using System.Net.Sockets;
using System.Text;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.People;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A plain LDAP directory, and one that misbehaves.</summary>
public sealed class PlainDirectoryTests : IDisposable
{
    private readonly Scratch _scratch = new();
    private readonly PlainDirectory _rail;

    public PlainDirectoryTests() => _rail = new(_scratch);

    public void Dispose()
    {
        _rail.Dispose();
        _scratch.Dispose();
    }

    [Fact]
    public void Values_in_filters_are_values()
    {
        Assert.Equal("\\2a\\29\\28objectClass=\\2a\\00\\5c", LdapDirectory.Escape("*)(objectClass=*\0\\"));
        Assert.Equal("m\\c3\\bcller", LdapDirectory.Escape("müller"));
    }

    [Fact]
    public async Task It_is_followed_level_by_level()
    {
        using var d = _rail.Open();
        var web07 = (await d.ComputerOfAccountAsync("web07$", CancellationToken.None))!;
        Assert.Equal(["all-servers", "web-servers"], web07.Groups.Select(g => g.Name).Order());
        Assert.NotEmpty(web07.Id);
        Assert.NotNull(web07.Groups[0].Changed);
        var owners = await d.OwnersAsync(["shop.thistledown.example", "web07.thistledown.example", "x.example"], CancellationToken.None);
        Assert.Equal(2, owners.Count);
        Assert.Contains((await d.PersonAsync("jay@thistledown.example", CancellationToken.None))!.Groups, g => g.Name == "web-team");
        // Who writes a filter into a name finds nobody.
        foreach (var name in new[] { "*", "jay)(uid=*", "*)(objectClass=*", "jay\0", "\\2a" })
        {
            Assert.Null(await d.PersonAsync(name, CancellationToken.None));
            Assert.Null(await d.ComputerOfAccountAsync(name, CancellationToken.None));
            Assert.Empty(await d.OwnersAsync([name], CancellationToken.None));
        }
    }

    /// <summary>What it refers to is another directory's word, and another's address: neither is followed, also where the whole base lies there.</summary>
    [Fact]
    public async Task References_are_not_followed()
    {
        using var d = _rail.Open();
        Assert.NotNull(await d.ComputerOfAccountAsync("web07$", CancellationToken.None));
        using var moved = _rail.Open(@base: "cn=elsewhere," + PlainDirectory.Base);
        var away = await Assert.ThrowsAsync<BeaconProblem>(() => moved.ComputerOfAccountAsync("web07$", CancellationToken.None));
        Assert.Equal(ProblemCode.DirectoryAway, away.Code);
        Assert.Contains("refers to another directory", away.Message);
        Assert.Contains("BEACON_DIRECTORYBASE", away.Cure);
        Assert.False(_rail.WasFollowed);
    }

    [Fact]
    public async Task A_wrong_password_is_called_that()
    {
        using var wrong = _rail.Open(password: "guess");
        var refused = await Assert.ThrowsAsync<BeaconProblem>(() => wrong.PersonAsync("jay", CancellationToken.None));
        Assert.Contains("was refused", refused.Cure);
    }

    [Fact]
    public async Task Over_tls_its_authority_must_be_in_the_folder()
    {
        using var d = _rail.Open($"ldaps://127.0.0.1:{_rail.TlsPort}", trust: _rail.Trust);
        Assert.NotNull(await d.PersonAsync("jay", CancellationToken.None));
        var others = _scratch["others"];
        Directory.CreateDirectory(others);
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {_scratch["o.key"]} -out {others}/other.pem -days 30 -subj /CN=Other"
        );
        using var untrusted = _rail.Open($"ldaps://127.0.0.1:{_rail.TlsPort}", trust: others);
        var away = await Assert.ThrowsAsync<BeaconProblem>(() => untrusted.PersonAsync("jay", CancellationToken.None));
        Assert.Equal(ProblemCode.DirectoryAway, away.Code);
        Assert.Contains("BEACON_DIRECTORYTRUST", away.Cure);
    }

    [Fact]
    public async Task It_dies_hangs_and_comes_back()
    {
        using var d = _rail.Open();
        Assert.NotNull(await d.PersonAsync("jay", CancellationToken.None));
        _rail.Kill();
        var away = await Assert.ThrowsAsync<BeaconProblem>(() => d.PersonAsync("jay", CancellationToken.None));
        Assert.Equal(ProblemCode.DirectoryAway, away.Code);
        _rail.StartAgain();
        Assert.NotNull(await d.PersonAsync("jay", CancellationToken.None));
        // It takes the question and is silent.
        _rail.StandStill();
        try
        {
            Assert.Equal(
                ProblemCode.DirectoryAway,
                (await Assert.ThrowsAsync<BeaconProblem>(() => d.PersonAsync("jay", CancellationToken.None))).Code
            );
        }
        finally
        {
            _rail.GoOn();
        }
        Assert.NotNull(await AgainAsync(d));
    }

    /// <summary>What it was asked before it was stopped comes first, and on a busy machine takes its time.</summary>
    private static async Task<DirectoryPerson?> AgainAsync(LdapDirectory d)
    {
        for (var tries = 0; ; tries++)
            try
            {
                return await d.PersonAsync("jay", CancellationToken.None);
            }
            catch (BeaconProblem p) when (p.Code == ProblemCode.DirectoryAway && tries < 6) { }
    }

    /// <summary>The line is cut after every so many bytes of what it answers: never half an answer, and never a group or an owner fewer.</summary>
    [Fact]
    public async Task Cut_off_in_the_middle_it_has_said_nothing()
    {
        using var line = new CutLine(_rail.Port);
        using var d = _rail.Open($"ldap://127.0.0.1:{line.Port}");
        var whole = (await d.ComputerOfAccountAsync("web07$", CancellationToken.None))!;
        Assert.Equal(2, whole.Groups.Count);
        var failed = 0;
        foreach (var bytes in Enumerable.Range(0, 40).Select(i => i * 25))
        {
            line.Left = bytes;
            try
            {
                var computer = (await d.ComputerOfAccountAsync("web07$", CancellationToken.None))!;
                Assert.Equal(whole.Groups.Select(g => g.Name), computer.Groups.Select(g => g.Name));
                Assert.Equal(whole.Principals, computer.Principals);
            }
            catch (BeaconProblem p)
            {
                Assert.Equal(ProblemCode.DirectoryAway, p.Code);
                failed++;
            }
        }
        Assert.InRange(failed, 5, 40);
    }

    [Fact]
    public async Task Among_fifty_thousand_computers_and_five_thousand_groups_each_question_is_for_what_it_needs()
    {
        const int Depth = 8,
            Members = 80;
        var entries = new StringBuilder();
        for (var i = 0; i < 50_000; i++)
            entries.Append(
                $"dn: cn=c{i},{PlainDirectory.Base}\nobjectClass: computer\ncn: c{i}\nsAMAccountName: c{i}$\ndNSHostName: c{i}.thistledown.example\nservicePrincipalName: HTTP/s{i}.thistledown.example\n\n"
            );
        for (var g = 0; g < 5_000; g++)
        {
            var members = g % Depth > 0 ? [$"g{g - 1}"] : Enumerable.Range(g / Depth * Members, Members).Select(c => $"c{c}");
            var lines = string.Concat(members.Select(m => $"member: cn={m},{PlainDirectory.Base}\n"));
            entries.Append($"dn: cn=g{g},{PlainDirectory.Base}\nobjectClass: groupOfNames\ncn: g{g}\n{lines}\n");
        }
        _rail.Kill();
        _rail.AddWhileDown(entries.ToString());
        _rail.StartAgain();
        using var d = _rail.Open();
        Assert.NotNull(await d.ComputerOfAccountAsync("web07$", CancellationToken.None));
        var before = d.Questions;
        var last = (await d.ComputerOfAccountAsync("c49999$", CancellationToken.None))!;
        Assert.Equal(Enumerable.Range(4992, Depth).Select(g => $"g{g}"), last.Groups.Select(g => g.Name).Order());
        // One for the computer, one for each level, and one that finds no more.
        Assert.Equal(Depth + 2, d.Questions - before);
        before = d.Questions;
        var names = Enumerable.Range(0, 100).Select(i => $"s{i * 499}.thistledown.example").ToList();
        Assert.Equal(100, (await d.OwnersAsync(names, CancellationToken.None)).Count);
        Assert.Equal(5, d.Questions - before);
    }

    /// <summary>Directories let everybody make a few computers: such an account joins nothing when all of the domain's may.</summary>
    [Fact]
    public async Task A_computer_that_a_user_made_joins_by_invitation_alone()
    {
        using var d = _rail.Open();
        var options = new BeaconOptions { DomainHosts = "*" };
        var accounts = new MachineAccounts(new DirectoryBook(d, options, TimeProvider.System), options);
        Assert.Equal(
            "web07$",
            (await accounts.ThatMayJoinAsync(new("web07$", "web07$@thistledown.example"), CancellationToken.None)).Account
        );
        var no = await Assert.ThrowsAsync<BeaconProblem>(() =>
            accounts.ThatMayJoinAsync(new("lap01$", "lap01$@thistledown.example"), CancellationToken.None)
        );
        Assert.Equal(ProblemCode.NotAllowed, no.Code);
        Assert.Contains("without the right to join computers", no.Cure);
        Assert.Equal(["laptops"], (await d.ComputerOfAccountAsync("lap01$", CancellationToken.None))!.Groups.Select(g => g.Name));
    }

    /// <summary>A line to the directory that carries so many bytes of answers, and breaks; the next connection is whole until <see cref="Left"/> is set again.</summary>
    private sealed class CutLine : IDisposable
    {
        private readonly TcpListener _listener = new(IPAddress.Loopback, 0);
        private readonly CancellationTokenSource _end = new();
        private readonly int _to;

        public CutLine(int to)
        {
            _to = to;
            _listener.Start();
            _ = AcceptAsync();
        }

        public int Port => ((IPEndPoint)_listener.LocalEndpoint).Port;

        /// <summary>Bytes that are still carried back, over all connections; none for no end.</summary>
        public int? Left { get; set; }

        private async Task AcceptAsync()
        {
            while (true)
            {
                TcpClient caller;
                try
                {
                    caller = await _listener.AcceptTcpClientAsync(_end.Token);
                }
                catch (OperationCanceledException)
                {
                    return;
                }
                _ = CarryAsync(caller);
            }
        }

        private async Task CarryAsync(TcpClient caller)
        {
            using var from = caller;
            using var to = new TcpClient();
            await to.ConnectAsync(IPAddress.Loopback, _to);
            try
            {
                await Task.WhenAny(from.GetStream().CopyToAsync(to.GetStream()), BackAsync(to.GetStream(), from.GetStream()));
            }
            catch (IOException) { }
        }

        private async Task BackAsync(NetworkStream from, NetworkStream to)
        {
            var buffer = new byte[1];
            while (Left is not 0 && await from.ReadAsync(buffer) > 0)
            {
                Left--;
                await to.WriteAsync(buffer);
            }
        }

        public void Dispose()
        {
            _end.Cancel();
            _listener.Dispose();
            _end.Dispose();
        }
    }
}
