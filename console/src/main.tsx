import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { type ComponentType, StrictMode } from 'react'
import { setNonce } from 'get-nonce'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter, Navigate, RouterProvider } from 'react-router'
import { Failure } from './api/client'
import { AccountsPage } from './accounts/AccountsPage'
import { Frame } from './frame/Frame'
import { NotFoundPage } from './frame/NotFoundPage'
import { JobsPage } from './jobs/JobsPage'
import { OverviewPage } from './overview/OverviewPage'
import { RunsPage } from './runs/RunsPage'
import { SigninPage } from './signin/SigninPage'
import { FilesPage } from './files/FilesPage'
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

/** A page that is loaded when it is first opened. */
const page =
  <Name extends string>(load: () => Promise<Record<Name, ComponentType>>, name: Name) =>
  async () => ({ Component: (await load())[name] })

const router = createBrowserRouter([
  { path: '/signin', element: <SigninPage /> },
  {
    element: <Frame />,
    children: [
      { path: '/', element: <OverviewPage /> },
      { path: '/files/*', element: <FilesPage /> },
      { path: '/accounts', element: <AccountsPage /> },
      { path: '/accounts/link', lazy: page(() => import('./accounts/LinkPage'), 'LinkPage') },
      { path: '/accounts/consent/:id', lazy: page(() => import('./accounts/ConsentPage'), 'ConsentPage') },
      { path: '/accounts/reauthorize/:name', lazy: page(() => import('./accounts/ReauthorizePage'), 'ReauthorizePage') },
      { path: '/accounts/providers', lazy: page(() => import('./accounts/ProvidersPage'), 'ProvidersPage') },
      { path: '/accounts/:name', lazy: page(() => import('./accounts/AccountPage'), 'AccountPage') },
      { path: '/accounts/:name/edit', lazy: page(() => import('./accounts/EditPage'), 'EditPage') },
      { path: '/compare', lazy: page(() => import('./compare/ComparePage'), 'ComparePage') },
      { path: '/history', lazy: page(() => import('./history/HistoryPage'), 'HistoryPage') },
      { path: '/search', lazy: page(() => import('./search/SearchPage'), 'SearchPage') },
      { path: '/survey', lazy: page(() => import('./survey/SurveyPage'), 'SurveyPage') },
      { path: '/jobs', element: <JobsPage /> },
      { path: '/jobs/:name', lazy: page(() => import('./jobs/JobPage'), 'JobPage') },
      { path: '/runs', element: <RunsPage /> },
      { path: '/runs/:id', lazy: page(() => import('./runs/RunPage'), 'RunPage') },
      {
        path: '/settings',
        lazy: page(() => import('./settings/SettingsPage'), 'SettingsPage'),
        children: [
          { index: true, element: <Navigate to="/settings/bandwidth" replace /> },
          { path: 'bandwidth', lazy: page(() => import('./settings/SettingsPage'), 'BandwidthPage') },
          { path: 'notifications', lazy: page(() => import('./settings/Notifications'), 'Notifications') },
          { path: 'workers', lazy: page(() => import('./settings/WorkersPage'), 'WorkersPage') },
          { path: 'users', lazy: page(() => import('./settings/UsersPage'), 'UsersPage') },
          { path: 'audit', lazy: page(() => import('./settings/AuditPage'), 'AuditPage') },
          { path: 'signin', lazy: page(() => import('./settings/YourSignin'), 'YourSignin') },
          { path: 'backup', lazy: page(() => import('./settings/BackupPage'), 'BackupPage') },
          { path: 'health', lazy: page(() => import('./settings/HealthPage'), 'HealthPage') },
          { path: 'drive', lazy: page(() => import('./settings/DrivePage'), 'DrivePage') },
          { path: 'shares', lazy: page(() => import('./settings/SharesPage'), 'SharesPage') },
          { path: 'tokens', lazy: page(() => import('./settings/TokensPage'), 'TokensPage') },
          { path: 'sessions', lazy: page(() => import('./settings/SettingsPage'), 'SessionsPage') },
          { path: 'about', lazy: page(() => import('./settings/SettingsPage'), 'AboutPage') },
        ],
      },
      { path: '*', element: <NotFoundPage /> },
    ],
  },
])

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
)
