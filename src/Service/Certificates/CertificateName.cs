namespace OrderlyBeacon.Service.Certificates;

/// <summary>One name of a certificate, to find it by.</summary>
public sealed class CertificateName
{
    public int CertificateId { get; private init; }

    /// <summary>As <see cref="Core.Names.AlternativeName.ToString"/> writes it.</summary>
    public string Name { get; private init; } = "";

    public static CertificateName Of(int certificateId, string name) => new() { CertificateId = certificateId, Name = name };
}
