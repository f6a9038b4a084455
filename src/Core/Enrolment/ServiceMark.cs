using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Enrolment;

/// <summary>
/// How agents, clients and other services know that they speak with the service: besides a chain to the root that they trust, its certificate has a usage
/// (<see cref="Oids.BeaconService"/>) that the service gives to nobody but itself. A certificate for its name alone is not enough.
/// </summary>
public static class ServiceMark
{
    /// <param name="certificate">What the peer showed, DER.</param>
    /// <param name="isTrusted">Whether chain, dates and name are right.</param>
    public static bool IsShown(byte[]? certificate, bool isTrusted)
    {
        if (!isTrusted || certificate is null)
            return false;
        try
        {
            return X509.Read(certificate).ExtendedKeyUsage?.Contains(Oids.BeaconService) == true;
        }
        catch (BeaconProblem)
        {
            return false;
        }
    }
}
