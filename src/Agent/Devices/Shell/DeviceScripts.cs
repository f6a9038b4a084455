using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Devices.Shell;

/// <summary>
/// The scripts that do the work on a device, for any POSIX shell (IEEE 1003.1). Each is one function that is called in its last line: of one that arrives cut off nothing runs.
/// What they say stands between two marks, as an account's own files may say something before and after.
/// </summary>
internal sealed class DeviceScripts(DeviceKind kind)
{
    /// <summary>
    /// What every script begins with: words for what is said, one change at a time, the way back. Signals are caught, not ignored: a server that is started here would inherit
    /// that, and so it gets the account's own mask for new files. The lock is a link, which holds its process in its name and needs no room on the disk; what may have to be told is a file that is there before anything is changed.
    /// </summary>
    private const string Common = """
        trap : HUP PIPE INT TERM
        own=$(umask)
        umask 077
        LC_ALL=C PATH="$PATH:/usr/local/sbin:/usr/sbin:/sbin"
        export LC_ALL PATH
        say() { printf '%s\n' "$*" | tr '\n' ' '; echo; }
        fail() { say failed "$*"; exit 9; }
        torn() { fail "$* cannot be written: $(tail -n 1 "$F/said" 2>/dev/null)"; }
        inode() { ls -di "$1" | { read -r i rest; echo "$i"; }; }
        run() { (umask "$own"; unset LC_ALL; exec sh -c "$1") </dev/null >"$F/said" 2>&1; }
        why() { tail -n 3 "$F/said" 2>/dev/null; }
        begin() {
          mkdir -p "$F" && chmod 700 "$F" || fail "$F cannot be written"
          n=0
          until ln -s "$$" "$F/busy" 2>/dev/null; do
            [ -L "$F/busy" ] || [ "$n" -lt 3 ] || fail "$F cannot be written"
            p=$(ls -ld "$F/busy" 2>/dev/null | sed 's/.* -> //')
            old=$(find "$F/busy" -maxdepth 0 -mmin +15 2>/dev/null)
            if [ -z "$p" ]; then n=$((n + 1))
            elif [ -n "$old" ] || ! kill -0 "$p" 2>/dev/null; then rm -f "$F/busy"
            elif [ "$n" -lt 10 ]; then n=$((n + 1)); sleep 1
            else say busy; exit 9
            fi
          done
          trap 'rm -f "$F/busy"' EXIT
          : >"$F/said" || fail "$F cannot be written"
        }
        back() {
          worse=
          for undo in "$F/undo" "$F/undo-restarted"; do
            [ -f "$undo" ] || continue
            while IFS= read -r p && IFS= read -r b; do
              rm -f "$p.beacon-new"
              if [ -z "$b" ]; then rm -f "$p" || worse="$worse $p"
              elif [ ! -e "$b" ]; then :
              elif [ -e "$p" ] && [ "$(inode "$b")" = "$(inode "$p")" ]; then rm -f "$b"
              else mv -f "$b" "$p" || worse="$worse $p"
              fi
            done <"$undo"
            [ -n "$worse" ] && { say stuck "not put back:$worse"; return 1; }
            if [ "$undo" = "$F/undo-restarted" ]; then
              run "$RESTART" || { say stuck "it does not start with what was put back: $(why)"; rm -f "$undo"; return 1; }
            fi
            rm -f "$undo"
          done
          return 0
        }
        """;

    /// <summary>What a file of parts is made of, and the swap of all files.</summary>
    private const string Swapping = """
        build() {
          p=$1 m=$2 o=$3
          shift 3
          [ -L "$p" ] && fail "$p is a link: give the path of the file itself"
          [ -d "$p" ] && fail "$p is a folder"
          new="$p.beacon-new"
          rm -f "$new"
          for x; do cat "$D/$x.pem"; done 2>"$F/said" >"$new" || { e=$(why); clean; fail "$new cannot be written: $e"; }
          for x; do cat "$D/$x.pem"; done | cmp -s - "$new" || { clean; fail "$new was not written whole: the disk may be full"; }
          chmod "$m" "$new" || { clean; fail "$new does not take the mode $m"; }
          [ -z "$o" ] || chown "$o" "$new" 2>"$F/said" || { e=$(why); clean; fail "$new does not take the owner $o: $e"; }
        }
        name() {
          b=
          if [ -e "$1" ]; then
            b="$1.$STAMP"
            [ -e "$b" ] && b="$b-$$"
          fi
          printf '%s\n%s\n' "$1" "$b" >>"$F/undo.new"
        }
        keep() {
          while IFS= read -r p && IFS= read -r b; do
            [ -z "$b" ] || ln "$p" "$b" 2>/dev/null || cp -p "$p" "$b" 2>"$F/said" || { e=$(why); clean; fail "$b cannot be written: $e"; }
          done <"$F/undo.new"
        }
        clean() {
          [ -f "$F/undo.new" ] && while IFS= read -r p && IFS= read -r b; do [ -z "$b" ] || rm -f "$b"; done <"$F/undo.new"
          rm -f "$F/undo.new"
          files drop
        }
        drop() { rm -f "$1.beacon-new"; }
        place() { mv -f "$1.beacon-new" "$1" || { back; fail "$1 cannot be replaced"; }; }
        """;

    private const string Pruning = """
        prune() {
          n=$(ls -1d "$1".[0-9][0-9][0-9][0-9][0-9][0-9][0-9][0-9]-[0-9]* 2>/dev/null | wc -l)
          for b in "$1".[0-9][0-9][0-9][0-9][0-9][0-9][0-9][0-9]-[0-9]*; do
            [ "$n" -gt "$KEPT" ] || break
            rm -f "$b"
            n=$((n - 1))
          done
        }
        """;

    /// <summary>Whether one gets at what has to be changed.</summary>
    public DeviceScript Greet()
    {
        var body = new StringBuilder(Facts(null));
        body.AppendLine("mkdir -p \"$F\" && chmod 700 \"$F\" || fail \"$F cannot be written\"");
        body.AppendLine("command -v cmp >/dev/null || fail 'it has no cmp'");
        foreach (var folder in kind.Files.Select(f => Path.GetDirectoryName(f.Path)!).Distinct())
            body.AppendLine(
                $"[ -d {Quoted(folder)} ] && [ -w {Quoted(folder)} ] || fail {Quoted(folder + " is not there, or may not be written")}"
            );
        body.AppendLine("say system \"$(uname -s -r)\"");
        body.AppendLine("say account \"$(id -un)\"");
        body.AppendLine("command -v openssl >/dev/null && say maker \"$(openssl version)\"");
        body.AppendLine("exit 0");
        return Whole(body);
    }

    /// <summary>Has a key and a CSR made there, or gives what was made; says <c>none</c> where there is no openssl.</summary>
    public DeviceScript Request(DeviceRequest request)
    {
        var body = new StringBuilder(Facts(request));
        body.AppendLine("begin");
        body.AppendLine("[ -s \"$D/csr.pem\" ] && { cat \"$D/csr.pem\"; exit 0; }");
        if (kind.Key == KeyMaker.ByAgent)
            body.AppendLine("say none; exit 0");
        body.AppendLine("command -v openssl >/dev/null || { say none; exit 0; }");
        body.AppendLine("mkdir -p \"$D\" || fail \"$D cannot be written\"");
        Here(body, "$D/request.cnf", RequestSettings(request));
        body.AppendLine(
            $"[ -s \"$D/key.pem\" ] || {{ openssl genpkey {KeyOptions(request.Key)} -out \"$D/key.new\" 2>\"$F/said\" && mv \"$D/key.new\" \"$D/key.pem\"; }} || fail \"the key cannot be made: $(why)\""
        );
        body.AppendLine(
            "openssl req -new -config \"$D/request.cnf\" -subj / -key \"$D/key.pem\" -out \"$D/csr.new\" 2>\"$F/said\" && mv \"$D/csr.new\" \"$D/csr.pem\" || fail \"the request cannot be made: $(why)\""
        );
        body.AppendLine("cat \"$D/csr.pem\"");
        return Whole(body);
    }

    /// <summary>Keeps a CSR whose key the agent has, so that the same is found again.</summary>
    public DeviceScript KeepRequest(DeviceRequest request, string csr)
    {
        var body = new StringBuilder(Facts(request));
        body.AppendLine("begin");
        body.AppendLine("mkdir -p \"$D\" || fail \"$D cannot be written\"");
        Here(body, "$D/csr.new", csr);
        body.AppendLine("mv \"$D/csr.new\" \"$D/csr.pem\" || torn \"$D\"");
        body.AppendLine("cat \"$D/csr.pem\"");
        return Whole(body);
    }

    /// <summary>All files are built whole beside the old ones, the way back is written, then they are renamed, tested and taken up; what fails is put back at once.</summary>
    /// <param name="parts">PEM of each part; without the key when the device has made it.</param>
    public DeviceScript Install(DeviceRequest request, IReadOnlyDictionary<DevicePart, string> parts, DateTimeOffset now)
    {
        var body = new StringBuilder(Swapping);
        body.AppendLine();
        body.Append(Facts(request));
        body.AppendLine($"STAMP={now.UtcDateTime:yyyyMMdd-HHmmss}");
        body.AppendLine("begin");
        body.AppendLine("back || exit 9");
        body.AppendLine("[ -e \"$D/done\" ] && { say same; exit 0; }");
        body.AppendLine("[ -s \"$D/csr.pem\" ] || fail \"the request is not there any more\"");
        foreach (var (part, pem) in parts)
            Here(body, $"$D/{Name(part)}.pem", pem);
        body.AppendLine("[ -s \"$D/key.pem\" ] || fail \"the key is not there any more\"");
        body.AppendLine("rm -f \"$F/undo.new\"");
        foreach (var f in kind.Files)
            body.AppendLine($"build {Quoted(f.Path)} {f.Mode} {Quoted(f.Owner ?? "")} {string.Join(' ', f.Holds.Select(Name))}");
        // Only a list that is whole says what may be removed.
        body.AppendLine("files name");
        body.AppendLine(
            $"[ \"$(wc -l <\"$F/undo.new\")\" -eq {2 * kind.Files.Count} ] || {{ rm -f \"$F/undo.new\"; clean; fail \"$F/undo cannot be written: the disk may be full\"; }}"
        );
        body.AppendLine("keep");
        body.AppendLine("mv \"$F/undo.new\" \"$F/undo\" || { clean; fail \"$F cannot be written\"; }");
        body.AppendLine("sync");
        body.AppendLine("files place");
        if (kind.Test is { } test)
            body.AppendLine($"run {Quoted(test)} || {{ e=$(why); back; fail \"its own test refuses the new files: $e\"; }}");
        body.AppendLine("mv \"$F/undo\" \"$F/undo-restarted\" || { back; fail \"$F cannot be written\"; }");
        body.AppendLine("run \"$RESTART\" || { e=$(why); back; fail \"its restart fails: $e\"; }");
        body.AppendLine("say swapped");
        return Whole(body);
    }

    /// <summary>The way back goes first: from then on the new files are what the device has.</summary>
    public DeviceScript Confirm(DeviceRequest request)
    {
        var body = new StringBuilder(Pruning);
        body.AppendLine();
        body.Append(Facts(request));
        body.AppendLine("begin");
        body.AppendLine("rm -f \"$F/undo-restarted\" \"$F/undo\" || fail \"$F cannot be written\"");
        body.AppendLine($"KEPT={kind.Kept}");
        body.AppendLine(
            ": >\"$D/done\" && rm -f \"$D/key.pem\" \"$D/leaf.pem\" \"$D/intermediates.pem\" \"$D/root.pem\" \"$D/request.cnf\""
        );
        body.AppendLine("for d in \"$F\"/beacon-*; do [ \"$d\" = \"$D\" ] || rm -rf \"$d\"; done");
        body.AppendLine("files prune");
        body.AppendLine("say kept");
        return Whole(body);
    }

    public DeviceScript TakeBack(DeviceRequest request)
    {
        var body = new StringBuilder(Facts(request));
        body.AppendLine("begin");
        body.AppendLine("back || exit 9");
        body.AppendLine("rm -rf \"$D\"");
        return Whole(body);
    }

    private string Facts(DeviceRequest? request)
    {
        var facts = new StringBuilder();
        facts.AppendLine($"F={Quoted(kind.Folder)}");
        if (request is not null)
            facts.AppendLine($"D=\"$F/{request.Label}\"");
        facts.AppendLine($"RESTART={Quoted(kind.Restart)}");
        facts.AppendLine("files() {");
        foreach (var f in kind.Files)
            facts.AppendLine($"\"$1\" {Quoted(f.Path)}");
        facts.AppendLine("}");
        return facts.ToString();
    }

    private static DeviceScript Whole(StringBuilder body)
    {
        var mark = $"beacon-{RandomNumberGenerator.GetHexString(16, lowercase: true)}";
        // In a function of its own, with its input closed: what it starts cannot read the rest of the script.
        var text = $"work() (\n{Common}\n{body}\n)\nprintf '\\n%s\\n' {mark}\nwork </dev/null\nprintf '\\n%s %s\\n' {mark} $?\n";
        return new(text, mark);
    }

    /// <summary>Writes a text of ours to a file there. What stands in it is PEM or settings: no line of it can be the end's.</summary>
    private static void Here(StringBuilder body, string path, string text)
    {
        if (text.Length == 0)
        {
            body.AppendLine($": >\"{path}\" || torn \"{path}\"");
            return;
        }
        body.Append($"cat >\"{path}\" 2>\"$F/said\" <<'END-OF-TEXT' || torn \"{path}\"\n{text.TrimEnd('\n')}\nEND-OF-TEXT\n");
        // Some disks say that they are full when a file is closed, which nobody sees.
        body.AppendLine(
            $"[ \"$(wc -c <\"{path}\")\" -eq {Encoding.UTF8.GetByteCount(text.TrimEnd('\n')) + 1} ] || fail \"{path} was not written whole: the disk may be full\""
        );
    }

    private static string RequestSettings(DeviceRequest request)
    {
        var names = request.Names.Select((n, i) => $"{FormOf(n)}.{i + 1} = {n.Value}");
        return $"[req]\ndistinguished_name = subject\nreq_extensions = wish\n[subject]\n[wish]\nsubjectAltName = @names\n[names]\n{string.Join('\n', names)}\n";
    }

    private static string FormOf(AlternativeName name) => name.Kind == NameKind.Ip ? "IP" : "DNS";

    private static string KeyOptions(KeySpec key) =>
        key.ToString().Split('-') switch
        {
            ["rsa", var bits] => $"-algorithm RSA -pkeyopt rsa_keygen_bits:{bits}",
            [_, var curve] =>
                $"-algorithm EC -pkeyopt ec_paramgen_curve:{curve.ToUpperInvariant().Insert(1, "-")} -pkeyopt ec_param_enc:named_curve",
            _ => throw new InvalidOperationException(),
        };

    private static string Name(DevicePart part) => part.ToString().ToLowerInvariant();

    private static string Quoted(string text) => $"'{text.Replace("'", @"'\''", StringComparison.Ordinal)}'";
}

/// <summary>A script, and the mark that stands before and after what it says.</summary>
internal sealed record DeviceScript(string Text, string Mark)
{
    /// <summary>What it said, line by line, and how it ended; null when the end is missing.</summary>
    public (IReadOnlyList<string> Lines, int Code)? Said(string answer)
    {
        var lines = answer.Split('\n');
        var from = Array.FindIndex(lines, l => l.TrimEnd('\r') == Mark);
        var to = Array.FindIndex(lines, Math.Max(from, 0), l => l.StartsWith(Mark + " ", StringComparison.Ordinal));
        if (from < 0 || to < 0 || !int.TryParse(lines[to][(Mark.Length + 1)..].Trim(), out var code))
            return null;
        return ([.. lines[(from + 1)..to].Select(l => l.TrimEnd('\r', ' ')).Where(l => l.Length > 0)], code);
    }
}
