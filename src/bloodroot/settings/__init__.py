"""What a run needs to know about one project; never who may do what, never a secret."""

from .callers import (
    ClaimNames,
    Development,
    DirectoryTables,
    IntrospectionRules,
    SourceSettings,
    TokenRules,
    claim_path,
    given_by_scopes,
    scopes_of,
)
from .checked import SettingsError
from .probing import ActingSettings, Body, Example, KnownAnswer, ListedValue, ProbeRules, Sample, SignIn, ThingSample
from .project import Persona, Settings, acting_for, names_of_scopes
from .reading import find_settings, read_settings
from .serving import Asker, ServeRules

__all__ = [
    "ActingSettings",
    "Asker",
    "Body",
    "ClaimNames",
    "Development",
    "DirectoryTables",
    "Example",
    "IntrospectionRules",
    "KnownAnswer",
    "ListedValue",
    "Persona",
    "ProbeRules",
    "Sample",
    "ServeRules",
    "Settings",
    "SettingsError",
    "SignIn",
    "SourceSettings",
    "ThingSample",
    "TokenRules",
    "acting_for",
    "claim_path",
    "find_settings",
    "given_by_scopes",
    "names_of_scopes",
    "read_settings",
    "scopes_of",
]
