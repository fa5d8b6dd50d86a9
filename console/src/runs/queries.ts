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

export const useCauses = (id: string, moving: boolean) =>
  useQuery({
    refetchInterval: moving ? 5_000 : false,
    queryKey: ['causes', id],
    queryFn: () => data(api.GET('/api/v1/runs/{id}/causes', { params: { path: { id } } })),
  })

export type ItemState = 'waiting' | 'done' | 'skipped' | 'failed'

/** A page of items after the other; of a run that moves, they are asked for again. */
export const useItems = (id: string, state: ItemState | '', moving: boolean) =>
  useInfiniteQuery({
    refetchInterval: moving ? 2_000 : false,
    queryKey: ['items', id, state],
    queryFn: ({ pageParam }) =>
      data(api.GET('/api/v1/runs/{id}/items', { params: { path: { id }, query: { limit: 500, cursor: pageParam, state: state || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
  })
