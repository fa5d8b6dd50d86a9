import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, data } from '../api/client'

/** The workers, by name. What they say of themselves changes every few seconds. */
export function useWorkers() {
  return useQuery({ queryKey: ['workers'], queryFn: () => data(api.GET('/api/v1/workers')), refetchInterval: 10_000 })
}

/** Whether the service copies what workers can. */
export function useSharing() {
  return useQuery({ queryKey: ['workers', 'sharing'], queryFn: () => data(api.GET('/api/v1/worker-sharing')) })
}

/** A change of workers, after which they are fetched again. */
export function useChange<Given, Result>(change: (given: Given) => Promise<Result>, then: (result: Result) => void = () => {}) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: then,
    onSettled: () => void client.invalidateQueries({ queryKey: ['workers'] }),
  })
}
