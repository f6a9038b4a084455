using System.Net.Http.Json;
using System.Security.Cryptography.X509Certificates;
using Microsoft.Playwright;

namespace OrderlyBeacon.Console.Tests;

/// <summary>Debian's Chromium with a home of its own, which trusts the demo's roots alone and reaches its sites alone.</summary>
public sealed class Browser(DemoWorld demo) : IAsyncDisposable
{
    /// <summary>Chromium without its own windows and pages, which take half of its time.</summary>
    private const string Shell = "/usr/bin/chromium-headless-shell",
        Whole = "/usr/bin/chromium";

    private IPlaywright _playwright = null!;
    private IBrowser _browser = null!;

    public static async Task<Browser> StartAsync(DemoWorld demo)
    {
        var b = new Browser(demo);
        var home = Path.Combine(demo.Scratch.Path, "chromium");
        var db = Path.Combine(home, ".pki", "nssdb");
        Directory.CreateDirectory(db);
        foreach (
            var args in new[]
            {
                $"-N -d sql:{db} --empty-password",
                $"-A -d sql:{db} -n root -t C,, -i {demo.RootPem}",
                $"-A -d sql:{db} -n old-office -t C,, -i {demo.OldOfficePem}",
            }
        )
        {
            var (code, _, error) = Programs.Run("certutil", args.Split(' '));
            Assert.True(code == 0, error);
        }
        b._playwright = await Playwright.CreateAsync();
        b._browser = await b.LaunchAsync(Shell);
        return b;
    }

    private async Task<IBrowser> LaunchAsync(string program)
    {
        var home = Path.Combine(demo.Scratch.Path, "chromium");
        var environment = Environment
            .GetEnvironmentVariables()
            .Cast<System.Collections.DictionaryEntry>()
            .ToDictionary(e => (string)e.Key, e => (string?)e.Value ?? "");
        (environment["HOME"], environment["TZ"], environment["XDG_CONFIG_HOME"], environment["XDG_CACHE_HOME"]) = (
            home,
            "UTC",
            home + "/.config",
            home + "/.cache"
        );
        string On(string host, params string[] sites) => string.Join(", ", sites.Select(s => $"MAP {s}.thistledown.example {host}"));
        return await _playwright.Chromium.LaunchAsync(
            new()
            {
                ExecutablePath = program,
                Headless = true,
                Env = environment,
                Args =
                [
                    "--no-sandbox",
                    "--disable-dev-shm-usage",
                    "--disable-gpu",
                    "--force-color-profile=srgb",
                    "--font-render-hinting=none",
                    "--no-proxy-server",
                    "--disable-background-networking",
                    $"--host-resolver-rules={On(demo.Web01, "booking", "timetable", "pulse", "tickets")}, {On(demo.Web02, "staff", "parcels")}, MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE localhost",
                ],
            }
        );
    }

    public async Task<IPage> PageAsync(ColorScheme scheme = ColorScheme.Light, int width = 1280)
    {
        var context = await _browser.NewContextAsync(
            new()
            {
                BaseURL = demo.Url,
                ViewportSize = new() { Width = width, Height = 800 },
                ColorScheme = scheme,
                Locale = "en-GB",
                TimezoneId = "UTC",
                ReducedMotion = ReducedMotion.Reduce,
            }
        );
        context.SetDefaultTimeout(15_000);
        // A machine that builds beside the tests is slow, not wrong.
        Assertions.SetDefaultExpectTimeout(20_000);
        return await context.NewPageAsync();
    }

    /// <summary>A page that is signed in, with what its console complained about.</summary>
    public async Task<(IPage Page, List<string> Errors)> SignedInAsync(
        string path = "/",
        ColorScheme scheme = ColorScheme.Light,
        string who = "robin",
        int width = 1280
    )
    {
        var page = await PageAsync(scheme, width);
        var errors = new List<string>();
        await page.Context.AddCookiesAsync([await SessionOfAsync(who)]);
        page.Console += (_, m) =>
        {
            if (m.Type is "error" or "warning")
                errors.Add(m.Text);
        };
        page.PageError += (_, e) => errors.Add(e);
        await page.GotoAsync(path);
        await page.Locator("h2").First.WaitForAsync();
        return (page, errors);
    }

    /// <summary>A session as the page of signing in begins it. That page has tests of its own; this is sooner done.</summary>
    private async Task<Cookie> SessionOfAsync(string who)
    {
        var policy = new X509ChainPolicy { TrustMode = X509ChainTrustMode.CustomRootTrust, RevocationMode = X509RevocationMode.NoCheck };
        policy.CustomTrustStore.ImportFromPemFile(demo.RootPem);
        using var handler = new SocketsHttpHandler
        {
            UseCookies = false,
            SslOptions = new() { CertificateChainPolicy = policy },
        };
        using var http = new HttpClient(handler) { BaseAddress = new Uri(demo.Url) };
        using var answer = await http.PostAsync(
            "/api/v1/session",
            JsonContent.Create(
                new
                {
                    name = who,
                    password = demo.Password(who),
                    kind = "cookie",
                }
            )
        );
        answer.EnsureSuccessStatusCode();
        var pair = answer.Headers.GetValues("Set-Cookie").Single().Split(';')[0].Split('=', 2);
        return new()
        {
            Name = pair[0],
            Value = pair[1],
            Domain = "localhost",
            Path = "/",
            Secure = true,
            HttpOnly = true,
            SameSite = SameSiteAttribute.Strict,
        };
    }

    /// <summary>What Chromium shows beside a page's address: whether it finds nothing to warn of. Its shell has no such place.</summary>
    public async Task<string> SecurityStateAsync(string address)
    {
        await using var whole = await LaunchAsync(Whole);
        var page = await whole.NewPageAsync();
        await page.GotoAsync(address);
        var cdp = await page.Context.NewCDPSessionAsync(page);
        var state = new TaskCompletionSource<string>();
        cdp.Event("Security.visibleSecurityStateChanged").OnEvent += (_, e) =>
            state.TrySetResult(e!.Value.GetProperty("visibleSecurityState").GetProperty("securityState").GetString()!);
        await cdp.SendAsync("Security.enable");
        return await state.Task.WaitAsync(TimeSpan.FromSeconds(10));
    }

    /// <summary>Saves a picture where SHOTS names a folder.</summary>
    public static async Task ShotAsync(IPage page, string name)
    {
        if (Environment.GetEnvironmentVariable("SHOTS") is not { Length: > 0 } folder)
            return;
        await page.EvaluateAsync("document.fonts.ready");
        await page.WaitForTimeoutAsync(400);
        await page.ScreenshotAsync(new() { Path = Path.Combine(folder, name + ".png"), Animations = ScreenshotAnimations.Disabled });
    }

    public async ValueTask DisposeAsync()
    {
        await _browser.DisposeAsync();
        _playwright.Dispose();
    }
}

/// <summary>The demo with a browser beside it.</summary>
public sealed class DemoWithBrowser : IAsyncLifetime
{
    public DemoWorld Demo { get; } = new();
    public Browser Browser { get; private set; } = null!;

    public async ValueTask InitializeAsync()
    {
        await Demo.InitializeAsync();
        Browser = await Browser.StartAsync(Demo);
    }

    public async ValueTask DisposeAsync()
    {
        if (Browser is not null)
            await Browser.DisposeAsync();
        await Demo.DisposeAsync();
    }
}
