/* Python's own program for Windows: all of it is in the library, which is called python3XX. */
#include <windows.h>

typedef int (*Main)(int, wchar_t **);

int wmain(int count, wchar_t **words) {
    HMODULE python = LoadLibraryW(PYTHON);
    Main run = python ? (Main)(void *)GetProcAddress(python, "Py_Main") : NULL;
    return run ? run(count, words) : 120;
}
