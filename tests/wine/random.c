/* bcryptprimitives.dll, which this Wine lacks: some packages ask it for random bytes. */
#include <windows.h>

BOOLEAN NTAPI SystemFunction036(PVOID data, ULONG size);

__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T size) { return SystemFunction036(data, (ULONG)size); }
