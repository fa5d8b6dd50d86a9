import { useQuery } from '@tanstack/react-query'
import { api, data } from '../api/client'

/** Who may sign in, by name. */
export function useUsers() {
  return useQuery({ queryKey: ['users'], queryFn: () => data(api.GET('/api/v1/users')) })
}
