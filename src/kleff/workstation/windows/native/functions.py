"""The Windows functions that Kleff calls: their library, what their result means, and their arguments.

A `p` is an argument of 64 bits (a pointer, a handle), a `d` one of 32. What the result means: `status` an error code; `bool` and
`handle` 0 if it failed, `file` all ones, and the last error says why; `nt` an NTSTATUS, `hr` an HRESULT; `num` a number that is no error;
`void` none.

Every line is held against the prototypes of the compiler's headers by a test. Those marked `~` are not in the headers and stand on the
published documentation alone.
"""

from __future__ import annotations

from typing import NamedTuple

TABLE = """
advapi32 status RegOpenKeyExW ppddp
advapi32 status RegCreateKeyExW ppdpddppp
advapi32 status RegCloseKey p
advapi32 status RegEnumKeyExW pdpppppp
advapi32 status RegEnumValueW pdpppppp
advapi32 status RegQueryInfoKeyW pppppppppppp
advapi32 status RegQueryValueExW pppppp
advapi32 status RegSetValueExW ppddpd
advapi32 status RegDeleteValueW pp
advapi32 status RegLoadKeyW ppp
advapi32 status RegUnLoadKeyW pp
advapi32 status RegFlushKey p
ntdll nt ~NtDeleteKey p
kernel32 bool CloseHandle p
advapi32 bool OpenProcessToken pdp
advapi32 bool CheckTokenMembership ppp
advapi32 bool LookupPrivilegeValueW ppp
advapi32 bool AdjustTokenPrivileges pdpdpp
advapi32 handle OpenSCManagerW ppd
advapi32 handle OpenServiceW ppd
advapi32 bool CloseServiceHandle p
advapi32 bool QueryServiceStatusEx pdpdp
advapi32 bool ChangeServiceConfigW pdddppppppp
advapi32 bool ControlService pdp
advapi32 bool StartServiceW pdp
advapi32 bool DeleteService p
advapi32 handle CreateServiceW pppddddpppppp
advapi32 bool EnumServicesStatusExW pdddpdpppp
advapi32 bool GetTokenInformation pdpdp
advapi32 bool LookupAccountSidW ppppppp
kernel32 file CreateToolhelp32Snapshot dd
kernel32 bool Process32FirstW pp
kernel32 bool Process32NextW pp
kernel32 handle OpenProcess ddd
kernel32 bool QueryFullProcessImageNameW pdpp
kernel32 bool GetProcessIoCounters pp
kernel32 bool GetProcessTimes ppppp
kernel32 bool ReadProcessMemory ppppp
kernel32 bool TerminateProcess pd
kernel32 num WaitForSingleObject pd
kernel32 bool DuplicateHandle ppppddd
kernel32 num GetFileType p
kernel32 num GetFinalPathNameByHandleW ppdd
ntdll nt NtQueryInformationProcess pdpdp
ntdll nt NtQuerySystemInformation dpdp
kernel32 handle CreateJobObjectW pp
kernel32 bool AssignProcessToJobObject pp
kernel32 bool QueryInformationJobObject pdpdp
kernel32 bool SetInformationJobObject pdpd
kernel32 handle CreateIoCompletionPort pppd
kernel32 bool GetQueuedCompletionStatus ppppd
kernel32 bool CreateProcessW ppppddpppp
kernel32 num ResumeThread p
kernel32 bool GetExitCodeProcess pp
kernel32 file CreateFileW pddpddp
ntdll nt NtCreateFile pdpppddddpd
ntdll nt NtClose p
ntdll nt NtQueryInformationFile pppdd
ntdll nt NtSetInformationFile pppdd
ntdll nt ~NtQuerySecurityObject pdpdp
ntdll nt ~NtSetSecurityObject pdp
kernel32 bool GetFileInformationByHandleEx pdpd
kernel32 bool SetFileInformationByHandle pdpd
kernel32 bool DeviceIoControl pdpdpdpp
kernel32 bool ReadFile ppdpp
kernel32 bool WriteFile ppdpp
kernel32 bool FlushFileBuffers p
kernel32 bool GetDiskFreeSpaceExW pppp
kernel32 num GetLogicalDrives -
kernel32 num GetDriveTypeW p
kernel32 num GetSystemWindowsDirectoryW pd
kernel32 file CreateNamedPipeW pddddddp
kernel32 bool ConnectNamedPipe pp
kernel32 bool GetConsoleMode pp
kernel32 bool SetConsoleMode pd
ole32 hr CoInitializeEx pd
ole32 hr CoCreateInstance ppdpp
oleaut32 handle SysAllocString p
oleaut32 void SysFreeString p
kernel32 bool GetSystemPowerStatus p
kernel32 num SetThreadExecutionState d
advapi32 bool InitiateSystemShutdownExW ppdddd
kernel32 num GetCurrentProcessId -
kernel32 bool ProcessIdToSessionId dp
wtsapi32 bool WTSEnumerateSessionsW pddpp
wtsapi32 bool WTSQuerySessionInformationW pddpp
wtsapi32 void WTSFreeMemory p
user32 handle FindWindowExW pppp
user32 num GetWindowThreadProcessId pp
user32 num GetWindowTextW ppd
user32 num IsWindowVisible p
user32 bool PostMessageW pdpp
iphlpapi status GetExtendedTcpTable ppdddd
msi status MsiEnumProductsExW ppddpppp
msi status MsiGetProductInfoExW ppdppp
msi status MsiGetSummaryInformationW dpdp
msi status MsiSummaryInfoGetPropertyW ddppppp
msi status MsiOpenDatabaseW ppp
msi status MsiDatabaseOpenViewW dpp
msi status MsiViewExecute dd
msi status MsiViewFetch dp
msi status MsiRecordGetStringW ddpp
msi status MsiCloseHandle d
wintrust num WinVerifyTrust ppp
setupapi file SetupDiCreateDeviceInfoList pp
setupapi bool SetupDiOpenDeviceInfoW pppdp
setupapi bool SetupDiDestroyDeviceInfoList p
setupapi bool SetupUninstallOEMInfW pdp
newdev bool DiUninstallDevice pppdp
newdev bool DiInstallDriverW ppdp
netapi32 status NetUserGetInfo ppdp
netapi32 status NetUserDel pp
netapi32 status NetApiBufferFree p
"""


class Function(NamedTuple):
    """One function.

    Attributes:
        means: what its result says; arguments: a letter each.
        in_headers: whether a test can hold it against them.
    """

    dll: str
    name: str
    means: str
    arguments: str
    in_headers: bool


def _read(table: str) -> dict[str, Function]:
    found = {}
    for line in table.strip().splitlines():
        dll, means, name, arguments = line.split()
        found[name.lstrip("~")] = Function(dll, name.lstrip("~"), means, arguments.strip("-"), not name.startswith("~"))
    return found


FUNCTIONS = _read(TABLE)
