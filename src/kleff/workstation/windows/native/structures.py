"""Structures of Windows, under their own names and those of their fields; a test holds size and place of each against the headers.

Only fields of a fixed size. A `P` is an address in the process in which the calls are made.
"""

from __future__ import annotations

from ctypes import Structure, c_int32, c_int64, c_uint8, c_uint16, c_uint32, c_uint64

P, U8, U16, U32, U64, I32, I64 = c_uint64, c_uint8, c_uint16, c_uint32, c_uint64, c_int32, c_int64


class LUID(Structure):
    _fields_ = (("LowPart", U32), ("HighPart", I32))


class LUID_AND_ATTRIBUTES(Structure):
    _fields_ = (("Luid", LUID), ("Attributes", U32))


class TOKEN_PRIVILEGES(Structure):
    _fields_ = (("PrivilegeCount", U32), ("Privileges", LUID_AND_ATTRIBUTES * 1))


class SERVICE_STATUS(Structure):
    _fields_ = (
        ("dwServiceType", U32), ("dwCurrentState", U32), ("dwControlsAccepted", U32), ("dwWin32ExitCode", U32),
        ("dwServiceSpecificExitCode", U32), ("dwCheckPoint", U32), ("dwWaitHint", U32),
    )  # fmt: skip


class SERVICE_STATUS_PROCESS(Structure):
    _fields_ = (*SERVICE_STATUS._fields_, ("dwProcessId", U32), ("dwServiceFlags", U32))


class ENUM_SERVICE_STATUS_PROCESSW(Structure):
    _fields_ = (("lpServiceName", P), ("lpDisplayName", P), ("ServiceStatusProcess", SERVICE_STATUS_PROCESS))


class FILETIME(Structure):
    _fields_ = (("dwLowDateTime", U32), ("dwHighDateTime", U32))


class IO_COUNTERS(Structure):
    _fields_ = tuple((name, U64) for name in (
        "ReadOperationCount", "WriteOperationCount", "OtherOperationCount", "ReadTransferCount", "WriteTransferCount", "OtherTransferCount",
    ))  # fmt: skip


class PROCESSENTRY32W(Structure):
    _fields_ = (
        ("dwSize", U32), ("cntUsage", U32), ("th32ProcessID", U32), ("th32DefaultHeapID", P), ("th32ModuleID", U32), ("cntThreads", U32),
        ("th32ParentProcessID", U32), ("pcPriClassBase", I32), ("dwFlags", U32), ("szExeFile", U16 * 260),
    )  # fmt: skip


class PROCESS_BASIC_INFORMATION(Structure):
    _fields_ = (
        ("ExitStatus", I32), ("PebBaseAddress", P), ("AffinityMask", P), ("BasePriority", I32), ("UniqueProcessId", P),
        ("InheritedFromUniqueProcessId", P),
    )  # fmt: skip


class SYSTEM_HANDLE_TABLE_ENTRY_INFO_EX(Structure):
    _fields_ = (
        ("Object", P), ("UniqueProcessId", P), ("HandleValue", P), ("GrantedAccess", U32), ("CreatorBackTraceIndex", U16),
        ("ObjectTypeIndex", U16), ("HandleAttributes", U32), ("Reserved", U32),
    )  # fmt: skip


class MIB_TCPROW_OWNER_PID(Structure):
    _fields_ = (
        ("dwState", U32), ("dwLocalAddr", U32), ("dwLocalPort", U32), ("dwRemoteAddr", U32), ("dwRemotePort", U32), ("dwOwningPid", U32),
    )  # fmt: skip


class MIB_TCP6ROW_OWNER_PID(Structure):
    _fields_ = (
        ("ucLocalAddr", U8 * 16), ("dwLocalScopeId", U32), ("dwLocalPort", U32), ("ucRemoteAddr", U8 * 16), ("dwRemoteScopeId", U32),
        ("dwRemotePort", U32), ("dwState", U32), ("dwOwningPid", U32),
    )  # fmt: skip


class SYSTEM_POWER_STATUS(Structure):
    _fields_ = (
        ("ACLineStatus", U8), ("BatteryFlag", U8), ("BatteryLifePercent", U8), ("Reserved1", U8), ("BatteryLifeTime", U32),
        ("BatteryFullLifeTime", U32),
    )  # fmt: skip


class SYSTEM_TIMEOFDAY_INFORMATION(Structure):
    """Moments in 100 ns since 1601. Reserved1 begins with four bytes for alignment; then comes by how much the clock was set (I64)."""

    _fields_ = (
        ("BootTime", I64), ("CurrentTime", I64), ("TimeZoneBias", I64), ("CurrentTimeZoneId", U32), ("Reserved1", U8 * 20),
    )  # fmt: skip


class WTS_SESSION_INFOW(Structure):
    _fields_ = (("SessionId", U32), ("pWinStationName", P), ("State", U32))


class SECURITY_ATTRIBUTES(Structure):
    _fields_ = (("nLength", U32), ("lpSecurityDescriptor", P), ("bInheritHandle", I32))


class STARTUPINFOW(Structure):
    _fields_ = (
        ("cb", U32), ("lpReserved", P), ("lpDesktop", P), ("lpTitle", P), ("dwX", U32), ("dwY", U32), ("dwXSize", U32), ("dwYSize", U32),
        ("dwXCountChars", U32), ("dwYCountChars", U32), ("dwFillAttribute", U32), ("dwFlags", U32), ("wShowWindow", U16),
        ("cbReserved2", U16), ("lpReserved2", P), ("hStdInput", P), ("hStdOutput", P), ("hStdError", P),
    )  # fmt: skip


class PROCESS_INFORMATION(Structure):
    _fields_ = (("hProcess", P), ("hThread", P), ("dwProcessId", U32), ("dwThreadId", U32))


class JOBOBJECT_BASIC_ACCOUNTING_INFORMATION(Structure):
    _fields_ = (
        ("TotalUserTime", U64), ("TotalKernelTime", U64), ("ThisPeriodTotalUserTime", U64), ("ThisPeriodTotalKernelTime", U64),
        ("TotalPageFaultCount", U32), ("TotalProcesses", U32), ("ActiveProcesses", U32), ("TotalTerminatedProcesses", U32),
    )  # fmt: skip


class JOBOBJECT_ASSOCIATE_COMPLETION_PORT(Structure):
    _fields_ = (("CompletionKey", P), ("CompletionPort", P))


class UNICODE_STRING(Structure):
    _fields_ = (("Length", U16), ("MaximumLength", U16), ("Buffer", P))


class OBJECT_ATTRIBUTES(Structure):
    _fields_ = (
        ("Length", U32), ("RootDirectory", P), ("ObjectName", P), ("Attributes", U32), ("SecurityDescriptor", P),
        ("SecurityQualityOfService", P),
    )  # fmt: skip


class IO_STATUS_BLOCK(Structure):
    _fields_ = (("Status", P), ("Information", P))  # the first is half of a union with a pointer


class FILE_BASIC_INFO(Structure):
    _fields_ = (
        ("CreationTime", U64), ("LastAccessTime", U64), ("LastWriteTime", U64), ("ChangeTime", U64), ("FileAttributes", U32),
    )  # fmt: skip


class FILE_STANDARD_INFO(Structure):
    _fields_ = (("AllocationSize", U64), ("EndOfFile", U64), ("NumberOfLinks", U32), ("DeletePending", U8), ("Directory", U8))


class FILE_ATTRIBUTE_TAG_INFO(Structure):
    _fields_ = (("FileAttributes", U32), ("ReparseTag", U32))


class FILE_ID_INFO(Structure):
    _fields_ = (("VolumeSerialNumber", U64), ("FileId", U8 * 16))


class FILE_ID_BOTH_DIR_INFO(Structure):
    _fields_ = (
        ("NextEntryOffset", U32), ("FileIndex", U32), ("CreationTime", U64), ("LastAccessTime", U64), ("LastWriteTime", U64),
        ("ChangeTime", U64), ("EndOfFile", U64), ("AllocationSize", U64), ("FileAttributes", U32), ("FileNameLength", U32),
        ("EaSize", U32), ("ShortNameLength", U8), ("ShortName", U16 * 12), ("FileId", U64), ("FileName", U16 * 1),
    )  # fmt: skip


class FILE_STREAM_INFO(Structure):
    _fields_ = (
        ("NextEntryOffset", U32), ("StreamNameLength", U32), ("StreamSize", U64), ("StreamAllocationSize", U64), ("StreamName", U16 * 1),
    )  # fmt: skip


class SP_DEVINFO_DATA(Structure):
    _fields_ = (("cbSize", U32), ("ClassGuid", U8 * 16), ("DevInst", U32), ("Reserved", P))


class FILE_RENAME_INFO(Structure):
    _fields_ = (("Flags", U32), ("RootDirectory", P), ("FileNameLength", U32), ("FileName", U16 * 1))


class WINTRUST_FILE_INFO(Structure):
    _fields_ = (("cbStruct", U32), ("pcwszFilePath", P), ("hFile", P), ("pgKnownSubject", P))


class WINTRUST_DATA(Structure):
    _fields_ = (
        ("cbStruct", U32), ("pPolicyCallbackData", P), ("pSIPClientData", P), ("dwUIChoice", U32), ("fdwRevocationChecks", U32),
        ("dwUnionChoice", U32), ("pFile", P), ("dwStateAction", U32), ("hWVTStateData", P), ("pwszURLReference", P),
        ("dwProvFlags", U32), ("dwUIContext", U32),
    )  # fmt: skip


class OVERLAPPED(Structure):
    _fields_ = (("Internal", P), ("InternalHigh", P), ("Offset", U32), ("OffsetHigh", U32), ("hEvent", P))


# What the headers lack; it stands on what others have published of it.
NOT_IN_HEADERS = (SYSTEM_HANDLE_TABLE_ENTRY_INFO_EX,)
STRUCTURES: dict[str, type[Structure]] = {
    name: made
    for name, made in list(globals().items())
    if isinstance(made, type) and issubclass(made, Structure) and made is not Structure and made not in NOT_IN_HEADERS
}
