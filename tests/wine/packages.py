"""Made-up packages for the installer of Windows, made by wixl and, for what that does not know, by msibuild."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

NEEDED = ("wixl", "msibuild")
CODE = "{8A1F0C52-5B0E-4C9B-9E37-2A51D6C4B700}"
SOURCE = """<?xml version="1.0" encoding="utf-8"?>
<Wix xmlns="http://schemas.microsoft.com/wix/2006/wi">
 <Product Name="Bed Counter" Id="8A1F0C52-5B0E-4C9B-9E37-2A51D6C4B700" UpgradeCode="8A1F0C52-5B0E-4C9B-9E37-2A51D6C4B7FF" Language="1033"
          Codepage="1252" Version="2.1.0" Manufacturer="Brindlewort">
  <Package Id="*" Description="Counts beds" Manufacturer="Brindlewort" InstallerVersion="200" Languages="1033" Compressed="yes"
           SummaryCodepage="1252" InstallScope="perMachine" Platform="x64"/>
  <Media Id="1" Cabinet="beds.cab" EmbedCab="yes"/>
  <Directory Id="TARGETDIR" Name="SourceDir"><Directory Id="ProgramFiles64Folder" Name="PFiles">
   <Directory Id="INSTALLDIR" Name="Bed Counter"><Component Id="Main" Guid="8A1F0C52-5B0E-4C9B-9E37-2A51D6C4B701" Win64="yes">
    <File Id="Program" Name="counter.exe" DiskId="1" Source="counter.exe" KeyPath="yes"/>
    <RegistryKey Root="HKLM" Key="Software\\Brindlewort\\Bed Counter"><RegistryValue Name="Beds" Type="integer" Value="7"/></RegistryKey>
   </Component></Directory></Directory></Directory>
  <Feature Id="Complete" Level="1"><ComponentRef Id="Main"/></Feature>
 </Product>
</Wix>
"""
# What a removal comes to besides success: it asks for a restart; it fails in the middle and takes itself back.
ASKS_FOR_A_RESTART = ("INSERT INTO InstallExecuteSequence (Action, Sequence) VALUES ('ScheduleReboot', 6500)",)
FAILS = (
    "INSERT INTO CustomAction (Action, Type, Source, Target) VALUES ('Fails', 19, '', 'no')",
    "INSERT INTO InstallExecuteSequence (Action, Condition, Sequence) VALUES ('Fails', 'REMOVE', 1510)",
)


def package(folder: Path, program: Path, statements: tuple[str, ...] = ()) -> Path:
    """A package with a program and a key of its own."""
    folder.mkdir(parents=True, exist_ok=True)
    shutil.copy(program, folder / "counter.exe")
    (folder / "beds.wxs").write_text(SOURCE)
    subprocess.run(["wixl", "-a", "x64", "-o", "beds.msi", "beds.wxs"], cwd=folder, check=True, capture_output=True)
    for statement in statements:
        subprocess.run(["msibuild", "beds.msi", "-q", statement], cwd=folder, check=True, capture_output=True)
    return folder / "beds.msi"
