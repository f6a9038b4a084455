using System.CommandLine;
using OrderlyBeacon.StandIns;

// The simulated outside world: what cannot run on this machine, small, and for the demo and tests alone.
var folder = new Option<string>("--data") { Description = "Where it keeps its state.", Required = true };
var api = new Option<string>("--api") { Description = "Address and port of its API, as 127.0.0.1:9443.", Required = true };
var front = new Option<string>("--front") { Description = "Address and port where its users come to it.", Required = true };
var appliance = new Command("appliance", "A firewall appliance with a candidate and a running configuration.") { folder, api, front };
appliance.SetAction((r, ct) => Appliance.RunAsync(r.GetValue(folder)!, r.GetValue(api)!, r.GetValue(front)!, ct));
var listen = new Option<string>("--listen") { Description = "Address and port where sign-ins arrive.", Required = true };
var metadata = new Option<string>("--metadata") { Description = "Where the provider's metadata is.", Required = true };
var at = new Option<string?>("--at") { Description = "The address to go to for it, when that is not the one that its name has." };
var refresh = new Option<int>("--refresh") { Description = "Every so many seconds; 0: when somebody asks for it by hand." };
var partner = new Command("partner", "A partner of a federation: it takes a provider's word when it knows its certificate.")
{
    listen,
    metadata,
    at,
    refresh,
};
partner.SetAction(
    (r, ct) =>
        Partner.RunAsync(
            r.GetValue(listen)!,
            new(new Uri(r.GetValue(metadata)!), r.GetValue(at), TimeSpan.FromSeconds(r.GetValue(refresh))),
            ct
        )
);
var config = new Option<string>("--config") { Description = "Its settings.", Required = true };
var test = new Option<bool>("--test") { Description = "Read the settings, say what is wrong with them, and end." };
var broker = new Command("broker", "A desktop broker, which finds its certificate in a keystore by a label.") { config, test };
broker.SetAction((r, ct) => Broker.RunAsync(r.GetValue(config)!, r.GetValue(test), ct));
var gateway = new Command("broker-gateway", "The broker's gateway; the broker starts it.") { config };
gateway.SetAction((r, ct) => Broker.GatewayAsync(r.GetValue(config)!, ct));
return await new RootCommand("Stand-ins for devices, partners and authorities elsewhere.") { appliance, partner, broker, gateway }
    .Parse(args)
    .InvokeAsync();
