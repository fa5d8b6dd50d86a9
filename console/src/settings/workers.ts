import { useQuery } from '@tanstack/react-query'
import { api, data } from '../api/client'

/** The workers, by name. What they say of themselves changes every few seconds. */
export function useWorkers() {
  return useQuery({ queryKey: ['workers'], queryFn: () => data(api.GET('/api/v1/workers')), refetchInterval: 10_000 })
}

/** Whether the service copies what workers can. */
export function useSharing() {
  return useQuery({ queryKey: ['workers', 'sharing'], queryFn: () => data(api.GET('/api/v1/worker-sharing')) })
}
