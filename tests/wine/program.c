/* A program of the tests' own, for Windows: a service, and what a product's program may do while it is removed.
 *
 *   program                       is a service, when the manager starts it
 *   program sleep SECONDS         waits
 *   program hold FILE SHARE       opens a file, shared so, and waits
 *   program exit CODE [SECONDS]   ends with a code, after a while
 *   program start FILE...         starts a command line and ends at once, as an uninstaller that hands over does
 *   program remove NAME CODE [FILE]   says so, takes its entry NAME out of the list of programs (once there is FILE), ends with a code
 *   program later FILE            has the system delete a file at the next restart
 *   program tell NAME [FILE]      says what a variable holds, and the first line of a file or of what it was given to read
 *   program line ...              says its command line, as it got it
 *   program split FILE            says what CommandLineToArgvW makes of each line of a file, behind a program
 */
#include <windows.h>
#include <shellapi.h>
#include <stdio.h>
#include <stdlib.h>
#include <wchar.h>

static SERVICE_STATUS_HANDLE manager;
static HANDLE stopping;

static void tell(DWORD state) {
    SERVICE_STATUS status = {SERVICE_WIN32_OWN_PROCESS, state, state == SERVICE_RUNNING ? SERVICE_ACCEPT_STOP : 0, 0, 0, 0, 0};
    SetServiceStatus(manager, &status);
}

static DWORD WINAPI told(DWORD control, DWORD type, void *data, void *context) {
    (void)type, (void)data, (void)context;
    if (control == SERVICE_CONTROL_STOP) {
        tell(SERVICE_STOP_PENDING);
        SetEvent(stopping);
    }
    return NO_ERROR;
}

static void WINAPI service(DWORD count, LPWSTR *names) {
    (void)count;
    manager = RegisterServiceCtrlHandlerExW(names[0], told, NULL);
    tell(SERVICE_START_PENDING);
    stopping = CreateEventW(NULL, TRUE, FALSE, NULL);
    tell(SERVICE_RUNNING);
    WaitForSingleObject(stopping, INFINITE);
    tell(SERVICE_STOPPED);
}

static int start(wchar_t *words) {
    STARTUPINFOW how = {.cb = sizeof how};
    PROCESS_INFORMATION made;
    return !CreateProcessW(NULL, words, NULL, NULL, FALSE, 0, NULL, NULL, &how, &made);
}

static int take_off(const wchar_t *name, int code, const wchar_t *awaited) {
    wchar_t key[300];
    swprintf(key, 300, L"SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\%ls", name);
    printf("taking it off\n");
    fflush(stdout);
    while (awaited && GetFileAttributesW(awaited) == INVALID_FILE_ATTRIBUTES) Sleep(50);
    if (RegDeleteKeyExW(HKEY_LOCAL_MACHINE, key, KEY_WOW64_64KEY, 0)) return 1603;
    printf("it is off\n");
    return code;
}

static int tell_all(const wchar_t *name, FILE *from) {
    wchar_t variable[300] = L"";
    char line[300] = "";
    GetEnvironmentVariableW(name, variable, 300);
    if (!from || !fgets(line, sizeof line, from)) line[0] = 0;
    printf("[%ls] [%s]\n", variable, line);
    fprintf(stderr, "complains\n");
    return 0;
}

static int split(FILE *lines) {
    static wchar_t line[4096] = L"x ";
    while (fgetws(line + 2, 4000, lines)) {
        int count;
        line[wcscspn(line, L"\n")] = 0;
        wchar_t **words = CommandLineToArgvW(line, &count);
        for (int at = 1; at < count; at++) printf("%ls%c", words[at], 1);
        printf("\n");
    }
    return 0;
}

int wmain(int count, wchar_t **words) {
    SERVICE_TABLE_ENTRYW services[] = {{L"", service}, {NULL, NULL}};
    if (count < 3) return !StartServiceCtrlDispatcherW(services);
    if (!wcscmp(words[1], L"sleep")) Sleep(1000 * _wtoi(words[2]));
    if (!wcscmp(words[1], L"hold")) {
        CreateFileW(words[2], GENERIC_READ, count > 3 ? _wtoi(words[3]) : 0, NULL, OPEN_ALWAYS, 0, NULL);
        Sleep(60000);
    }
    if (!wcscmp(words[1], L"exit")) {
        Sleep(count > 3 ? 1000 * _wtoi(words[3]) : 0);
        return _wtoi(words[2]);
    }
    if (!wcscmp(words[1], L"remove") && count > 3) return take_off(words[2], _wtoi(words[3]), count > 4 ? words[4] : NULL);
    if (!wcscmp(words[1], L"later")) return !MoveFileExW(words[2], NULL, MOVEFILE_DELAY_UNTIL_REBOOT);
    if (!wcscmp(words[1], L"tell")) return tell_all(words[2], count > 3 ? _wfopen(words[3], L"rb") : stdin);
    if (!wcscmp(words[1], L"line")) return printf("%ls\n", GetCommandLineW()) < 0;
    if (!wcscmp(words[1], L"split")) return split(_wfopen(words[2], L"r"));
    if (!wcscmp(words[1], L"start")) return start(words[2]);
    return 0;
}
