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

export type ItemFilter = { state?: ItemState; cause?: string; action?: 'ask'; folder?: string; text?: string }

/**
 * Pages of the items that a filter takes. Of a run that moves the first pages are asked for
 * again; a long list that was scrolled through stays as it is.
 */
export const useItems = (id: string, filter: ItemFilter, moving: boolean) =>
  useInfiniteQuery({
    queryKey: ['items', id, filter],
    queryFn: ({ pageParam }) => data(api.GET('/api/v1/runs/{id}/items', { params: { path: { id }, query: { limit: 500, cursor: pageParam, ...filter } } })),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
    refetchInterval: (query) => (moving && (query.state.data?.pages.length ?? 0) <= 2 ? 2_000 : false),
  })
