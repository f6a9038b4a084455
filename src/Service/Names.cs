// The noun, everywhere: files that a tool writes know the framework's Host as well.
global using Host = OrderlyBeacon.Service.Hosts.Host;
