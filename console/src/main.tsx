import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { setNonce } from 'get-nonce'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter, Navigate, RouterProvider } from 'react-router'
import { Failure, onSignedOut } from './api/client'
import { AccountPage } from './accounts/AccountPage'
import { AccountsPage } from './accounts/AccountsPage'
import { ConsentPage } from './accounts/ConsentPage'
import { EditPage } from './accounts/EditPage'
import { LinkPage } from './accounts/LinkPage'
import { ReauthorizePage } from './accounts/ReauthorizePage'
import { ProvidersPage } from './accounts/ProvidersPage'
import { ComparePage } from './compare/ComparePage'
import { Frame } from './frame/Frame'
import { JobPage } from './jobs/JobPage'
import { JobsPage } from './jobs/JobsPage'
import { RunPage } from './runs/RunPage'
import { RunsPage } from './runs/RunsPage'
import { SettingsPage } from './settings/SettingsPage'
import { SurveyPage } from './survey/SurveyPage'
import { SigninPage } from './signin/SigninPage'
import { TreePage } from './tree/TreePage'
import './theme.css'

// The page's policy takes style sheets that bear its nonce alone: a dialog locks scrolling by one.
setNonce(document.querySelector('meta[name=nonce]')?.getAttribute('content') ?? '')

const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      retry: (n, error) => n < 2 && error instanceof Failure && (error.problem.status === 0 || error.problem.status >= 500),
    },
  },
})

const router = createBrowserRouter([
  { path: '/signin', element: <SigninPage /> },
  {
    element: <Frame />,
    children: [
      { path: '/', element: <Navigate to="/tree" replace /> },
      { path: '/tree', element: <TreePage /> },
      { path: '/accounts', element: <AccountsPage /> },
      { path: '/accounts/link', element: <LinkPage /> },
      { path: '/accounts/consent/:id', element: <ConsentPage /> },
      { path: '/accounts/reauthorize/:name', element: <ReauthorizePage /> },
      { path: '/accounts/providers', element: <ProvidersPage /> },
      { path: '/accounts/:name', element: <AccountPage /> },
      { path: '/accounts/:name/edit', element: <EditPage /> },
      { path: '/compare', element: <ComparePage /> },
      { path: '/survey', element: <SurveyPage /> },
      { path: '/jobs', element: <JobsPage /> },
      { path: '/jobs/:name', element: <JobPage /> },
      { path: '/runs', element: <RunsPage /> },
      { path: '/runs/:id', element: <RunPage /> },
      { path: '/settings', element: <SettingsPage /> },
      { path: '*', element: <p className="py-12 text-soft">There is no such page. Choose a place above.</p> },
    ],
  },
])

onSignedOut(() => {
  if (window.location.pathname !== '/signin') void router.navigate('/signin')
})

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
)
