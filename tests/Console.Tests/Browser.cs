using System.Text.Json;
using Microsoft.Playwright;

namespace OrderlyBeacon.Console.Tests;

/// <summary>Debian's Chromium with a home of its own, which trusts the demo's roots alone and reaches its sites alone.</summary>
public sealed class Browser(DemoWorld demo) : IAsyncDisposable
{
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
        b._browser = await b._playwright.Chromium.LaunchAsync(
            new()
            {
                ExecutablePath = "/usr/bin/chromium",
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
        return b;
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
        await page.GotoAsync("/sign-in");
        await page.GetByLabel("Name").FillAsync(who);
        await page.Locator("input[type=password]").FillAsync(demo.Password(who));
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign in" }).ClickAsync();
        await page.Locator("h2").First.WaitForAsync();
        page.Console += (_, m) =>
        {
            if (m.Type is "error" or "warning")
                errors.Add(m.Text);
        };
        page.PageError += (_, e) => errors.Add(e);
        if (path != "/")
            await page.GotoAsync(path);
        await page.Locator("h2").First.WaitForAsync();
        return (page, errors);
    }

    /// <summary>Whether Chromium itself finds nothing to warn of.</summary>
    public static async Task<string> SecurityStateAsync(IPage page)
    {
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
