/* Makes Windows calls for a Linux process: a request comes on standard input, its answer goes to standard output.
 *
 * A request is a u32 length and operations one after another, an answer a u32 length and what each of them gives.
 * Numbers are little-endian.
 *
 *   'F' u16 count, UTF-16 library, u16 count, name of a function    gives u64 address, 0 if there is none
 *   'C' u64 address, u8 count, arguments                            gives u32 exception, u64 result, u32 last error, buffers
 *       an argument: u8 0, u64 value   or   u8 1, u32 size, bytes; each buffer comes back as it is after the call
 *   'A' u32 size                                                    gives u64 address of so many zeros
 *   'D' u64 address                                                 gives nothing; frees it
 *   'R' u64 address, u32 size                                       gives u32 count, bytes
 *   'W' u64 address, u32 size, bytes                                gives u32 count
 *
 * What breaks down inside a call is answered with the number of its exception; the helper lives on. So is a call that
 * writes behind its buffer, which is found by what stands there.
 */
#include <windows.h>
#include <fcntl.h>
#include <io.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#define MOST 16            /* arguments */
#define FENCE 16           /* bytes behind each buffer */
#define FENCE_BYTE 0xA5
#define OVERRUN 0xE0000001
#define WINE_STUB 0x80000100

typedef uint64_t (*Function)(uint64_t, uint64_t, uint64_t, uint64_t, uint64_t, uint64_t, uint64_t, uint64_t,
                             uint64_t, uint64_t, uint64_t, uint64_t, uint64_t, uint64_t, uint64_t, uint64_t);

typedef struct {
    uint64_t value;
    unsigned char *buffer;
    uint32_t size;
} Argument;

/* -- what breaks down -- */

static void *landing[5];
static volatile int calling;
static volatile DWORD exception;
static DWORD main_thread;

static LONG CALLBACK caught(EXCEPTION_POINTERS *what) {
    DWORD code = what->ExceptionRecord->ExceptionCode;
    /* Softer ones are raised and handled inside of libraries. */
    int hard = (code >> 28) == 0xC || code == WINE_STUB || code == EXCEPTION_BREAKPOINT;
    if (!calling || !hard || GetCurrentThreadId() != main_thread) return EXCEPTION_CONTINUE_SEARCH;
    exception = code;
    calling = 0;
    __builtin_longjmp(landing, 1);
}

/* -- reading a request, writing an answer -- */

static const unsigned char *at;
static unsigned char *answer;
static size_t used, room;

static void take(void *to, size_t size) {
    memcpy(to, at, size);
    at += size;
}

static uint32_t take32(void) { uint32_t n; take(&n, 4); return n; }
static uint64_t take64(void) { uint64_t n; take(&n, 8); return n; }

static void give(const void *data, size_t size) {
    if (used + size > room) {
        room = 2 * (used + size);
        answer = realloc(answer, room);
    }
    memcpy(answer + used, data, size);
    used += size;
}

static void give32(uint32_t n) { give(&n, 4); }
static void give64(uint64_t n) { give(&n, 8); }

/* -- the operations -- */

static void find_function(void) {
    wchar_t library[128] = {0};
    char name[128] = {0};
    uint16_t count;
    take(&count, 2);
    memcpy(library, at, (count < 127 ? count : 127) * 2);
    at += count * 2;
    take(&count, 2);
    memcpy(name, at, count < 127 ? count : 127);
    at += count;
    HMODULE module = LoadLibraryW(library);
    give64((uint64_t)(uintptr_t)(module ? GetProcAddress(module, name) : NULL));
}

static Argument take_argument(void) {
    Argument one = {0};
    if (*at++ == 0) {
        one.value = take64();
        return one;
    }
    one.size = take32();
    one.buffer = malloc(one.size + FENCE);
    take(one.buffer, one.size);
    memset(one.buffer + one.size, FENCE_BYTE, FENCE);
    one.value = (uint64_t)(uintptr_t)one.buffer;
    return one;
}

static int overrun(const Argument *one) {
    for (int i = 0; one->buffer && i < FENCE; i++)
        if (one->buffer[one->size + i] != FENCE_BYTE) return 1;
    return 0;
}

static void call(void) {
    static Argument a[MOST]; /* static: kept over the jump out of a call that broke down */
    static uint64_t address, result;
    static uint32_t error;
    static int count;
    memset(a, 0, sizeof a);
    address = take64();
    count = *at++;
    for (int i = 0; i < count; i++) a[i] = take_argument();
    exception = 0;
    result = error = 0;
    if (__builtin_setjmp(landing) == 0) {
        calling = 1;
        SetLastError(0);
        result = ((Function)(uintptr_t)address)(
            a[0].value, a[1].value, a[2].value, a[3].value, a[4].value, a[5].value, a[6].value, a[7].value,
            a[8].value, a[9].value, a[10].value, a[11].value, a[12].value, a[13].value, a[14].value, a[15].value);
        error = GetLastError();
        calling = 0;
    }
    for (int i = 0; i < count && !exception; i++)
        if (overrun(&a[i])) exception = OVERRUN;
    give32(exception);
    give64(result);
    give32(error);
    for (int i = 0; i < count; i++)
        if (a[i].buffer) {
            give(a[i].buffer, a[i].size);
            free(a[i].buffer);
        }
}

static void read_memory(void) {
    void *from = (void *)(uintptr_t)take64();
    uint32_t size = take32();
    SIZE_T done = 0;
    void *copy = malloc(size + 1);
    ReadProcessMemory(GetCurrentProcess(), from, copy, size, &done); /* a wrong address is no crash here */
    give32((uint32_t)done);
    give(copy, done);
    free(copy);
}

static void write_memory(void) {
    void *to = (void *)(uintptr_t)take64();
    uint32_t size = take32();
    SIZE_T done = 0;
    WriteProcessMemory(GetCurrentProcess(), to, at, size, &done);
    at += size;
    give32((uint32_t)done);
}

static void operation(unsigned char what) {
    switch (what) {
    case 'F': find_function(); break;
    case 'C': call(); break;
    case 'A': give64((uint64_t)(uintptr_t)calloc(1, take32())); break;
    case 'D': free((void *)(uintptr_t)take64()); break;
    case 'R': read_memory(); break;
    case 'W': write_memory(); break;
    }
}

/* -- the pipe -- */

static int receive(void *to, size_t size) {
    for (char *p = to; size;) {
        int n = _read(0, p, size > 1 << 20 ? 1 << 20 : (unsigned)size);
        if (n <= 0) return 0;
        p += n;
        size -= n;
    }
    return 1;
}

static int reply(void) {
    uint32_t length = (uint32_t)used - 4;
    memcpy(answer, &length, 4);
    for (size_t sent = 0; sent < used;) {
        int n = _write(1, answer + sent, used - sent > 1 << 16 ? 1 << 16 : (unsigned)(used - sent));
        if (n <= 0) return 0;
        sent += n;
    }
    return 1;
}

int wmain(void) {
    static unsigned char *request;
    static uint32_t had, size;
    _setmode(0, _O_BINARY);
    _setmode(1, _O_BINARY);
    main_thread = GetCurrentThreadId();
    AddVectoredExceptionHandler(1, caught);
    SetErrorMode(SEM_FAILCRITICALERRORS | SEM_NOGPFAULTERRORBOX | SEM_NOOPENFILEERRORBOX);
    while (receive(&size, 4)) {
        if (size > had) request = realloc(request, had = size);
        if (!receive(request, size)) break;
        used = 0;
        give32(0); /* room for the length */
        for (at = request; at < request + size;) operation(*at++);
        if (!reply()) break;
    }
    return 0;
}
