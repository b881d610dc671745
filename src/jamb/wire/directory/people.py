"""People and sessions."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Any
from uuid import UUID

from pydantic import ConfigDict, Field, SecretStr, StrictBool

from jamb.core.directory.passkeys import NAME_LONGEST as PASSKEY_NAME_LONGEST
from jamb.core.directory.people_list import NAME_LONGEST, PASSWORD_SHORTEST
from jamb.wire.base.shapes import Answered, Foreign, Moment, Sent, SeveralLines
from jamb.wire.base.text import NAMED, Login, ShortName
from jamb.wire.directory.authorizations import AskedFor

PersonName = Annotated[str, Field(min_length=1, max_length=NAME_LONGEST), NAMED]
NewPassword = Annotated[SecretStr, Field(min_length=PASSWORD_SHORTEST, max_length=200)]


class SignIn(Sent):
    """`directory`: the short name of one; left out: those whose domain is the login's."""

    login: Annotated[str, Field(min_length=1, max_length=200)]
    password: Annotated[SecretStr, Field(min_length=1, max_length=200)]
    directory: Annotated[str, Field(max_length=80)] = ""
    code: Annotated[SecretStr, Field(max_length=60)] = SecretStr("")


class FactorCode(Sent):
    """`code`: what the device shows now, or a recovery code."""

    code: Annotated[SecretStr, Field(min_length=1, max_length=60)]


class Passkey(Answered):
    """A key of one's own device, by which one signs in without a password."""

    id: UUID
    name: str
    made_at: Moment
    last_used_at: Moment | None


class OwnSecondFactor(Answered):
    """`set_up`: a device that makes codes. `recovery_codes`: how many are left.

    `wanted`: whether the policy wants a second factor of the person, `passkey_wanted`: that it is a passkey.
    `passkey_host`: to which passkeys belong; empty: none are offered.
    """

    set_up: bool
    recovery_codes: int
    wanted: bool
    passkeys: list[Passkey] = Field(default_factory=list)
    passkey_host: str = ""
    passkey_wanted: bool = False


class ShownPasskey(Sent):
    """`credential`: what the browser answers, as JSON (W3C Web Authentication Level 3, section 5.1)."""

    credential: Annotated[dict[str, Any], Foreign(), Field(max_length=20)]


class NewPasskey(ShownPasskey):
    name: Annotated[str, Field(min_length=1, max_length=PASSKEY_NAME_LONGEST), NAMED]


class PasskeyAdded(Answered):
    """`codes`: for when the device is lost, shown once; none where the person has some."""

    passkey: Passkey
    codes: list[str]


class PasskeyOptions(Answered):
    """What the browser is given to make or show a passkey, as JSON (section 5.4 and 5.5)."""

    options: dict[str, Any]


class Confirmation(Sent):
    """By what whoever is signed in shows that it is still they: password, and a code where one is wanted."""

    password: Annotated[SecretStr, Field(min_length=1, max_length=200)]
    code: Annotated[SecretStr, Field(max_length=60)] = SecretStr("")


class SecondFactorKey(Answered):
    """The key for a device, shown once: `key` to type, `uri` to scan. It counts when a code of it was typed."""

    key: str
    uri: str


class RecoveryCodes(Answered):
    """Codes for when the device is lost, shown once; each counts once."""

    codes: list[str]


class OwnPassword(Sent):
    """The password that one has, and the one that takes its place."""

    current: Annotated[SecretStr, Field(min_length=1, max_length=200)]
    password: NewPassword


class Person(Answered):
    """`second_factor`: whether they sign in with one. `groups`: to which they belong themselves, by name.

    `providers`: by which outside providers they have signed in, by title. All three are null where they were
    not looked at: they are told in the list of people.
    """

    id: UUID
    name: str
    login: str
    active: bool
    roles: list[str]
    second_factor: bool | None = None
    groups: list[str] | None = None
    providers: list[str] | None = None


class OtherSession(Answered):
    """A sign-in of the same browser in another directory, which it can switch to."""

    directory: str
    directory_name: str
    login: str


class Session(Answered):
    """Who is signed in, where, and the value to repeat in the header X-Jamb-CSRF of every change.

    `own_password`: whether they chose their password; somebody else who did could act as them.
    `factor_due`: whether the policy wants a second factor of them before anything else.
    `others`: sign-ins of this browser in other directories, the one used last first.
    """

    person: Person
    directory: str
    directory_name: str
    expires_at: Moment
    csrf: str
    own_password: bool = True
    factor_due: bool = False
    others: list[OtherSession]


class Whoami(Answered):
    """Who the service takes the caller for, and which operations of Jamb's own API are open to them."""

    kind: str
    id: str
    name: str
    via: str
    directory: str
    roles: list[str]
    may: list[str]


class DeviceDecision(Sent):
    """The answer to a waiting device. There is no default: silence is no."""

    user_code: Annotated[str, Field(min_length=8, max_length=20)]
    approve: StrictBool
    permissions: Annotated[list[Annotated[str, Field(max_length=80)]], Field(max_length=60)] = Field(
        default_factory=list, description="Those that the person consents to for themself"
    )


class DirectoryWanted(Sent):
    """The directory to go on in, by its short name."""

    directory: Annotated[str, Field(min_length=1, max_length=80)]


class DeviceLookup(Sent):
    user_code: Annotated[str, Field(min_length=1, max_length=40)]


class WaitingDevice(AskedFor):
    """A device that shows a code. `all_rights`: it acts with all that its person may do at Jamb's own API.

    Else what it asks for is told as any application's is.
    """

    client_id: str
    client_name: str
    directory: str
    asked_at: Moment
    expires_at: Moment
    all_rights: bool


class NewPerson(Sent):
    """They can sign in once they chose a password by a sign-in link; they hold roles and own clients at once."""

    login: Login
    name: PersonName
    roles: Annotated[list[ShortName], Field(max_length=50)] = Field(default_factory=list)


class PersonChange(Sent):
    """What to change; `active` false: they may no longer act, and their sessions end.

    `no_second_factor`: they lost it; they sign in without one, until they set one up anew.
    `no_provider`: whom outside providers mean by them is forgotten, as where their mail address is somebody else's now.
    """

    name: PersonName | None = None
    active: StrictBool | None = None
    no_second_factor: StrictBool = False
    no_provider: StrictBool = False


class PeopleFile(Sent):
    """A CSV file (RFC 4180) with the columns login, name and, separated by semicolons, groups and roles."""

    model_config = ConfigDict(extra="forbid", str_max_length=2_000_000)

    csv: Annotated[str, SeveralLines()]
    dry_run: StrictBool = False


class PeopleImported(Answered):
    """`present` were here before and stay as they are."""

    added: list[Person]
    present: list[str]
    groups_made: list[str]


class MayRegister(Answered):
    """Whether the caller may register clients; if not, whom to ask: a few names, where many could be asked."""

    allowed: bool
    why: str
    ask: list[str]


class SignInKind(StrEnum):
    BROWSER = "browser"
    COMMAND_LINE = "command-line"


class OwnSignIn(Answered):
    """A sign-in of the person who asks. `here`: the one by which they ask. `seen_at`: when it was last used.

    `address`, `user_agent`: from where, and with which program, it was begun; empty: it is not known.
    """

    id: str
    kind: SignInKind
    since: Moment
    seen_at: Moment | None
    stays_until: Moment
    address: str
    user_agent: str
    second_factor: bool
    here: bool


class OwnSignIns(Answered):
    """`total`: how many there are, where not all are told."""

    sign_ins: list[OwnSignIn]
    total: int


class SignInsEnded(Answered):
    ended: int
