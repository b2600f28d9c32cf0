/* Wine 8 has no bcryptprimitives.dll, which every Windows program made by Rust takes its random numbers from. This one
   function is all that they ask of it. Only for tests under Wine. */
#include <windows.h>

BOOLEAN NTAPI SystemFunction036(PVOID buffer, ULONG length);

__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T length) {
    while (length > 0) {
        ULONG part = length > 0x10000 ? 0x10000 : (ULONG)length;
        if (!SystemFunction036(data, part)) return FALSE;
        data += part;
        length -= part;
    }
    return TRUE;
}
