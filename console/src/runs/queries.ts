import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { api, data, type Run } from '../api/client'

/** A run, kept current by live events. */
export const useRun = (id: string, first?: Run) =>
  useQuery({
    queryKey: ['run', id],
    queryFn: () => data(api.GET('/api/v1/runs/{id}', { params: { path: { id } } })),
    initialData: first,
    staleTime: first ? 60_000 : 2_000,
  })

export const useCauses = (id: string) =>
  useQuery({
    queryKey: ['causes', id],
    queryFn: () => data(api.GET('/api/v1/runs/{id}/causes', { params: { path: { id } } })),
  })

export type ItemState = 'waiting' | 'done' | 'skipped' | 'failed'

export const useItems = (id: string, state: ItemState | '') =>
  useInfiniteQuery({
    queryKey: ['items', id, state],
    queryFn: ({ pageParam }) =>
      data(api.GET('/api/v1/runs/{id}/items', { params: { path: { id }, query: { limit: 500, cursor: pageParam, state: state || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
  })
