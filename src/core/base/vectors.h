/* core/base/vectors.h: which instructions on many bytes at once there are. Internal to core/.
 *
 * IND_SSE2: those of sixteen bytes, which every processor of x86-64 has. IND_AVX2: those of thirty-two may be
 * there: asked for at run time. Beside each use stands the plain way, which gives the same answers; with
 * IND_NO_VECTORS (the option IND_VECTORS of the build, for tests) it is taken everywhere. */
#ifndef IND_CORE_BASE_VECTORS_H
#define IND_CORE_BASE_VECTORS_H

#if (defined(__GNUC__) || defined(__clang__)) && !defined(IND_NO_VECTORS)
#ifdef __SSE2__
#define IND_SSE2 1
#include <emmintrin.h>
#endif
#ifdef __x86_64__
#define IND_AVX2 1
#include <immintrin.h>
#endif
#endif

#endif
