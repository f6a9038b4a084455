#!/usr/bin/python3
"""Fills a new directory of Thistledown Rail, before it is started: domain-people.py DIRECTORY KEYTABS PASSWORDS."""
import base64
import os
import sys

import ldb
import samba.dckeytab  # gives Net its export_keytab
from samba.auth import system_session
from samba.credentials import Credentials
from samba.dcerpc import security
from samba.ndr import ndr_unpack
from samba.net import Net
from samba.param import LoadParm
from samba.samdb import SamDB
from samba.sd_utils import SDUtils

directory, keytabs, passwords = (os.path.abspath(p) for p in sys.argv[1:4])
settings = LoadParm()
settings.load(directory + "/etc/smb.conf")
db = SamDB(url=directory + "/private/sam.ldb", session_info=system_session(), lp=settings)
base = db.domain_dn()


def secret():
    return base64.b64encode(os.urandom(24)).decode() + "aA1"


def password(name):
    path = f"{passwords}/{name}.password"
    if not os.path.exists(path):
        with open(os.open(path, os.O_WRONLY | os.O_CREAT, 0o600), "w") as f:
            f.write("Rail-" + os.urandom(8).hex() + "-7\n")
    with open(path) as f:
        return f.read().strip()


def change(dn, **values):
    message = ldb.Message(ldb.Dn(db, dn))
    for name, value in values.items():
        name = name.replace("_", "-")
        message[name] = ldb.MessageElement(value, ldb.FLAG_MOD_REPLACE, name)
    db.modify(message)


def computer(name, *principals):
    full = f"{name}.thistledown.example"
    db.newcomputer(name, prepare_oldjoin=False)
    db.setpassword(f"(sAMAccountName={name}$)", secret(), False)
    change(
        f"CN={name},CN=Computers,{base}",
        userAccountControl="4096",
        dNSHostName=full,
        msDS_SupportedEncryptionTypes="24",
        servicePrincipalName=[f"HOST/{name}", f"HOST/{full}", *principals],
    )


def person(name, text, *principals):
    db.newuser(name, text)
    more = {"servicePrincipalName": list(principals)} if principals else {}
    change(f"CN={name},CN=Users,{base}", userAccountControl="66048", msDS_SupportedEncryptionTypes="24", **more)


def group(name, *members):
    db.newgroup(name)
    if members:
        db.add_remove_group_members(name, list(members), add_members_operation=True)


db.transaction_start()
computer("web01", "HTTP/www.thistledown.example")
computer("web02")
computer("mail01", "smtp/mail.thistledown.example", "imap/mail.thistledown.example")
computer("db01")
computer("app01", "HTTP/season.thistledown.example", "HTTP/intranet.thistledown.example")
for name in ("robin", "wren", "jay", "finch", "magpie"):
    person(name, password(name))
person("beacon-service", secret(), "HTTP/beacon.thistledown.example")
# As if finch had made it, who may make a few: the directory notes who it was.
computer("lap09")
creator = db.search(f"CN=finch,CN=Users,{base}", scope=ldb.SCOPE_BASE, attrs=["objectSid"])[0]["objectSid"][0]
message = ldb.Message(ldb.Dn(db, f"CN=lap09,CN=Computers,{base}"))
message["mS-DS-CreatorSID"] = ldb.MessageElement(creator, ldb.FLAG_MOD_REPLACE, "mS-DS-CreatorSID")
db.modify(message, ["relax:0"])
group("certificate-administrators", "robin")
group("certificate-approvers", "wren")
group("web-team", "jay")
group("web-servers", "web01$", "web02$")
# Nested, and in a circle.
group("managed-servers", "web-servers", "mail01$", "db01$", "app01$")
db.add_remove_group_members("web-servers", ["managed-servers"], add_members_operation=True)
# Groups in groups, thirty deep.
for level in range(30):
    group(f"nest{level}", f"nest{level - 1}" if level else "web02$")
group("every-machine", "Domain Computers")
group("laptops", "lap09$")
full = "dc1.thistledown.example"
message = ldb.Message(ldb.Dn(db, f"CN=DC1,OU=Domain Controllers,{base}"))
message["servicePrincipalName"] = ldb.MessageElement(
    [f"ldap/{full}", "ldap/DC1", f"ldap/{full}/thistledown.example"], ldb.FLAG_MOD_ADD, "servicePrincipalName"
)
db.modify(message)
db.transaction_commit()

# The service may write userCertificate (bf967a7f-…) of computers (bf967a86-…), and nothing else.
sid = db.search(f"CN=beacon-service,CN=Users,{base}", scope=ldb.SCOPE_BASE, attrs=["objectSid"])[0]["objectSid"][0]
sid = ndr_unpack(security.dom_sid, sid)
SDUtils(db).dacl_add_ace(
    f"CN=Computers,{base}",
    f"(OA;CIIO;RPWP;bf967a7f-0de6-11d0-a285-00aa003049e2;bf967a86-0de6-11d0-a285-00aa003049e2;{sid})",
)

net = Net(Credentials(), settings)


def keytab(name, *principals):
    path = f"{keytabs}/{name}.keytab"
    if os.path.exists(path):
        os.unlink(path)
    for principal in principals:
        net.export_keytab(keytab=path, principal=principal)
    os.chmod(path, 0o600)


# Who signs in with a keytab does so as its first entry.
keytab("beacon", "beacon-service", "HTTP/beacon.thistledown.example")
for name in ("web01", "web02", "mail01", "db01", "app01"):
    keytab(name, name + "$")
