using System.CommandLine;
using OrderlyBeacon.StandIns;

// The simulated outside world: what cannot run on this machine, small, and for the demo and tests alone.
var folder = new Option<string>("--data") { Description = "Where it keeps its state.", Required = true };
var api = new Option<string>("--api") { Description = "Address and port of its API, as 127.0.0.1:9443.", Required = true };
var front = new Option<string>("--front") { Description = "Address and port where its users come to it.", Required = true };
var appliance = new Command("appliance", "A firewall appliance with a candidate and a running configuration.") { folder, api, front };
appliance.SetAction((r, ct) => Appliance.RunAsync(r.GetValue(folder)!, r.GetValue(api)!, r.GetValue(front)!, ct));
return await new RootCommand("Stand-ins for devices and authorities elsewhere.") { appliance }
    .Parse(args)
    .InvokeAsync();
