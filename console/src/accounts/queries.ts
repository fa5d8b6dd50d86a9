import { useQuery } from '@tanstack/react-query'
import { api, data } from '../api/client'

export const useAccounts = () => useQuery({ queryKey: ['accounts'], queryFn: () => data(api.GET('/api/v1/accounts')) })

export const useProviders = () => useQuery({ queryKey: ['providers'], queryFn: () => data(api.GET('/api/v1/providers')), staleTime: Infinity })

/** The space of each account and together: one that is away is waited for five seconds. */
export const useSpace = () => useQuery({ queryKey: ['space'], queryFn: () => data(api.GET('/api/v1/space')), staleTime: 30_000 })
