namespace OrderlyBeacon.StandIns;

/// <summary>What belongs to the program lies beside it, wherever it is started from.</summary>
internal static class ProgramFolder
{
    /// <summary>
    /// A builder that does not depend on the working folder. As it comes, it would take its files from there and watch that folder with all that is below it: started from
    /// <c>/</c>, that is every folder of the machine.
    /// </summary>
    public static WebApplicationBuilder Builder(params string[] args) =>
        WebApplication.CreateSlimBuilder(
            new WebApplicationOptions
            {
                Args = [.. args, "--hostBuilder:reloadConfigOnChange=false"],
                ContentRootPath = AppContext.BaseDirectory,
            }
        );
}
